/** What is wrong now: looked for in one statement, and kept until its end was told. */
import { nearlyFull } from '../../core/advance/chores.js';
import type { Condition, KnownCondition } from '../../core/alerts/conditions.js';
import type { Issue } from '../../core/errors/errors.js';
import { wording } from '../../core/errors/errors.js';
import { unplacedToldMs } from '../../core/plan/unplaced.js';
import { type Db, json, query, queryOne } from '../database.js';
import { edgeSilenceMs } from '../callers/edges.js';
import { ofTheHead } from '../runs/order.js';

type Found = Omit<Condition, 'says'> & { issue: Issue | null; detail: string };

/** Everything that is wrong at this moment, but for what a service alone can see. */
export const presentConditions = async (db: Db): Promise<Condition[]> =>
  (
    await query<Found>(
      db,
      `with standing as (
         select e.id, e.health, p.id as project, p.name || '/' || e.name as place, e.name as environment
         from environments e join projects p on p.id = e.project_id
         where e.kind = 'standing' and e.state not in ('closing', 'closed') and p.removed_at is null
       ), open as (
         select e.id, p.id as project, p.name || '/' || e.name as place, e.name as environment
         from environments e join projects p on p.id = e.project_id where e.state not in ('closing', 'closed')
       )
       select 'health-poor' as topic, place, '' as of, project, environment, null::jsonb as issue, 'Its health is ' || health || '.' as detail
         from standing where health in ('poor', 'down')
       union all
       select 'deployment-failed', s.place, 'd' || d.number, s.project, s.environment, d.failure, ''
         from standing s cross join lateral (
           select number, state, failure from deployments where environment_id = s.id order by number desc limit 1) d
         where d.state = 'failed'
       union all
       select 'cutover-waits', s.place, 'd' || d.number, s.project, s.environment, c.waits, ''
         from standing s join deployments d on d.environment_id = s.id and d.state = 'cutover'
           join cutovers c on c.deployment_id = d.id
         where c.waits is not null
       union all
       select 'main-failed', p.name, 'run ' || r.number, p.id, null, null, 'run ' || r.number || ' of ' || p.main_branch || ' failed.'
         from projects p cross join lateral (
           select number, state from runs u where project_id = p.id and branch = p.main_branch and state in ('passed', 'failed')
             and ${ofTheHead('u')}
           order by id desc limit 1) r
         where p.removed_at is null and r.state = 'failed'
       union all
       select 'address-failing', a.host, '', o.project, o.environment, a.issue, ''
         from addresses a join open o on o.id = a.environment_id
         where a.removed_at is null and a.issue is not null
           and (a.state = 'failed' or a.state in ('proven', 'certified') and a.tries >= 3)
       union all
       select 'resource-failed', o.place || ' ' || r.name, '', o.project, o.environment, r.issue, ''
         from resources r join open o on o.id = r.environment_id where r.state = 'failed' and r.wanted
       union all
       select 'volume-full', o.place || ' ' || r.name, '', o.project, o.environment, null,
           'It is ' || floor(v.used * 100.0 / v.size) || ' % full: ' || pg_size_pretty(v.size - v.used) || ' are left.'
         from volumes v join resources r on r.id = v.resource_id join open o on o.id = r.environment_id
         where v.state = 'there' and r.state = 'ready' and v.size > 0 and v.used >= v.size * $1::float8
       union all
       select 'database-full', o.place || ' ' || r.name, '', o.project, o.environment, null,
           'It is ' || floor(r.bytes * 100.0 / r.most) || ' % full' || case r.access when 'open' then ': ' || pg_size_pretty(r.most - r.bytes) || ' are left.'
             when 'reading' then ': programs can read it, and write to it no longer.' else ': its programs are not let in any more.' end
         from resources r join open o on o.id = r.environment_id
         where r.kind = 'postgres' and r.state = 'ready' and r.most > 0 and (r.bytes >= r.most * $1::float8 or r.access <> 'open')
       union all
       select 'backup-failed', o.place || ' ' || r.name, 'backup ' || b.number, o.project, o.environment, b.issue, ''
         from resources r join open o on o.id = r.environment_id cross join lateral (
           select number, state, issue from backups where resource_id = r.id and state in ('kept', 'failed') order by number desc limit 1) b
         where r.state = 'ready' and b.state = 'failed'
       union all
       select 'job-failed', o.place || ' ' || j.part, 'attempt ' || a.number, o.project, o.environment, a.issue, 'It ended badly.'
         from jobs j join open o on o.id = j.environment_id cross join lateral (
           select t.number, t.state, t.issue from attempts t
           where t.kind = 'job' and t.part = j.part and t.environment_id = j.environment_id and t.state in ('passed', 'failed', 'lost')
           order by t.id desc limit 1) a
         where a.state <> 'passed'
       union all
       select 'destination-failing', d.name, '', d.project_id, d.environment, d.issue, ''
         from destinations d where d.removed_at is null and d.issue is not null and d.tries >= 3
       union all
       select 'repository-altered', p.name, to_char(p.foreign_refs_at at time zone 'UTC', 'YYYY-MM-DD HH24:MI'), p.id, null, null,
           'Its repository had refs that no push makes: ' || array_to_string(p.foreign_refs[1:5], ', ') ||
           '. They are deleted. They can have made git read other files under the id of a commit: compare what was built before with a clone.'
         from projects p where p.removed_at is null and p.foreign_refs_at > now() - interval '7 days'
       union all
       select 'repository-filtered', p.name, '', p.id, null, null,
           'Its .gitattributes has ' || p.filtered || ': files that it names are built as they are stored, as pointers, not as what they point to. '
             || 'Store the files themselves, or fetch them in a task with \`network: true\`.'
         from projects p where p.removed_at is null and p.filtered is not null
       union all
       select distinct on (p.id) 'run-unplaced', p.name, 'run ' || r.number, p.id, null, r.issue, ''
         from runs r join projects p on p.id = r.project_id
         where r.unplaced_at < now() - $2::float8 * interval '1 millisecond' and r.state = 'waiting' and p.removed_at is null
       union all
       select 'agent-unreachable', g.name, '', null, null, null, 'It last reported at ' || to_char(g.seen_at at time zone 'UTC', 'YYYY-MM-DD HH24:MI') || ' UTC.'
         from agents g join tokens t on t.id = g.token_id where g.lease_until < now() and t.removed_at is null
       union all
       select 'edge-unreachable', g.name, '', null, null, null,
           'It last reported at ' || to_char(g.seen_at at time zone 'UTC', 'YYYY-MM-DD HH24:MI') || ' UTC. Servers that were replaced run on until it '
             || 'has the new addresses. Restart it. If it is gone for good, remove its token: \`tsunagi token remove ' || t.id || '\`.'
         from edges g join tokens t on t.id = g.token_id
         where g.seen_at < now() - $3::int * interval '1 ms' and t.removed_at is null
       union all
       select 'disk-full', g.name, '', null, null, g.full_issue, ''
         from agents g where g.full_issue is not null and g.lease_until > now()
       limit 2000`,
      [nearlyFull, unplacedToldMs, edgeSilenceMs],
    )
  ).map(({ issue, detail, ...one }) => ({ ...one, says: (issue ? wording(issue).says : detail).slice(0, 500) }));

export const knownConditions = async (db: Db): Promise<KnownCondition[]> =>
  query(
    db,
    `select topic, place, of, project_id as project, environment, says, extract(epoch from seen_at)::float8 * 1000 as "seenAt",
       extract(epoch from begun_at)::float8 * 1000 as "begunAt", extract(epoch from gone_at)::float8 * 1000 as "goneAt"
     from conditions order by topic, place`,
  );

/** One looks at a time; whoever comes meanwhile leaves it to that one. */
export const lockConditions = async (db: Db): Promise<boolean> =>
  (await queryOne<{ ok: boolean }>(db, 'select pg_try_advisory_xact_lock(7403126) as ok'))?.ok ?? false;

/** What is known from now on takes the place of what was. */
export const putConditions = (db: Db, known: readonly KnownCondition[]): Promise<unknown> =>
  query(
    db,
    `with fresh as (
       select * from jsonb_to_recordset($1::jsonb) as f(topic text, place text, of text, project uuid, environment text, says text,
         "seenAt" float8, "begunAt" float8, "goneAt" float8)
     ), gone as (
       delete from conditions c where not exists (select 1 from fresh f where f.topic = c.topic and f.place = c.place)
     )
     insert into conditions (topic, place, of, project_id, environment, says, seen_at, begun_at, gone_at)
       select topic, place, of, project, environment, says, to_timestamp("seenAt" / 1000), to_timestamp("begunAt" / 1000), to_timestamp("goneAt" / 1000)
       from fresh
     on conflict (topic, place) do update set of = excluded.of, project_id = excluded.project_id, environment = excluded.environment,
       says = excluded.says, seen_at = excluded.seen_at, begun_at = excluded.begun_at, gone_at = excluded.gone_at`,
    [json(known)],
  );
