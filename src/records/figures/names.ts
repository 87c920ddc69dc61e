/** What figures are of: hosts, instances, and the deployments that went live meanwhile. */
import type { Issue } from '../../core/errors/errors.js';
import { type Db, query } from '../database.js';

/** Host → id of its environment. */
export async function hostsOf(db: Db, hosts: readonly string[]): Promise<Map<string, string>> {
  const rows = await query<{ host: string; id: string }>(
    db,
    `select host, id from environments where host = any($1::text[])
     union select host, environment_id from addresses where host = any($1::text[]) and removed_at is null and kind = 'given'`,
    [hosts],
  );
  return new Map(rows.map((row) => [row.host, row.id]));
}

/** Instances by id, those of one agent alone where it is named; `label` as people write it: `api.1`. */
export async function instancesByIds(
  db: Db,
  agent: string | null,
  ids: readonly string[],
): Promise<Map<string, { environment: string; deployment: number; part: string; label: string }>> {
  const rows = await query<{ id: string; environment: string; deployment: number; part: string; label: string }>(
    db,
    `select i.id, d.environment_id as environment, d.number as deployment, i.part, i.part || '.' || i.position as label
     from instances i join deployments d on d.id = i.deployment_id
     where i.id = any($1::uuid[]) and ($2::uuid is null or i.agent_id = $2)`,
    [ids, agent],
  );
  return new Map(rows.map(({ id, ...row }) => [id, row]));
}

/** Deployments that went live in a span of seconds, the oldest first. */
export const livedIn = (
  db: Db,
  environment: string,
  from: number,
  until: number,
): Promise<{ at: Date; deployment: number; release: number }[]> =>
  query(
    db,
    `select d.live_at as at, d.number as deployment, r.number as release from deployments d join releases r on r.id = d.release_id
     where d.environment_id = $1 and d.live_at >= to_timestamp($2) and d.live_at < to_timestamp($3) order by d.live_at limit 200`,
    [environment, from, until],
  );

/** Programs that ended without being told to in a span of seconds, and were started again; the newest first, at most 200. */
export const restartedIn = (
  db: Db,
  environment: string,
  from: number,
  until: number,
  part: string | null,
): Promise<{ at: Date; part: string; instance: string; issue: Issue | null }[]> =>
  query(
    db,
    `select i.ended_at as at, i.part, i.part || '.' || i.position as instance, i.issue
     from instances i join deployments d on d.id = i.deployment_id
     where d.environment_id = $1 and i.state in ('failed', 'lost') and i.ready_at is not null
       and i.ended_at >= to_timestamp($2) and i.ended_at < to_timestamp($3) and ($4::text is null or i.part = $4)
     order by i.ended_at desc limit 200`,
    [environment, from, until, part],
  );

/** Id of an environment → its project and name; all reviews of a plan go by the plan's name. */
export async function labelsOf(
  db: Db,
  ids: readonly string[],
): Promise<Map<string, { project: string; environment: string }>> {
  const rows = await query<{ id: string; project: string; environment: string }>(
    db,
    `select e.id, p.name as project, case e.kind when 'review' then e.plan_name else e.name end as environment
     from environments e join projects p on p.id = e.project_id where e.id = any($1::uuid[])`,
    [ids],
  );
  return new Map(rows.map(({ id, ...row }) => [id, row]));
}

export interface Standing {
  what: string;
  label: string;
  n: number;
}

/** How many of what there are at this moment. */
export const standing = (db: Db): Promise<Standing[]> =>
  query(
    db,
    `select 'runs' as what, state as label, count(*)::int as n from runs where state in ('waiting', 'running') group by state
     union all select 'tasks', t.state, count(*)::int from tasks t join runs r on r.id = t.run_id
       where r.state = 'running' and t.state in ('ready', 'running') group by t.state
     union all select 'moving', '', count(*)::int from deployments
       where state in ('queued', 'preparing', 'starting', 'cutover', 'verifying')
     union all select 'agents', (lease_until > now())::text, count(*)::int from agents group by 2
     union all select 'instances', state, count(*)::int from instances where state in ('waiting', 'starting', 'ready', 'frozen') group by state
     union all select 'environments', health, count(*)::int from environments where state = 'live' group by health`,
  );
