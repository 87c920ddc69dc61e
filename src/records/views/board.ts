/** What is live where, and what of it is needed to say what waits: every project with its environments, in one statement. */
import type { EnvironmentPlan, VariablePlan } from '../../core/definition/model.js';
import type { Issue } from '../../core/errors/errors.js';
import type { DeploymentKind, DeploymentState, EvidenceKind, SourceKind } from '../../core/states.js';
import { withdrawn } from '../deployments/approvals.js';
import type { Approval } from '../../core/rules/rules.js';
import type { Override } from '../models/deployments/deployments.js';
import type { SecretPlace } from '../../core/variables/resolve.js';
import { type Db, query } from '../database.js';
import { ofTheHead } from '../runs/order.js';
import type { EnvironmentRow } from '../deployments/environments.js';
import type { RunOverview } from './overview.js';

/** Times are ISO 8601, as PostgreSQL writes them into JSON. */
export interface BoardDeployment {
  id: string;
  number: number;
  release_id: string;
  kind: DeploymentKind;
  actor: string;
  state: DeploymentState;
  failure: Issue | null;
  definition_commit: string | null;
  created_at: string;
  live_at: string | null;
  ended_at: string | null;
  warm_until: string | null;
  variables: Record<string, string>;
  secrets: Record<string, SecretPlace>;
  override: Override | null;
  joint_number: number | null;
  undoes: boolean;
}

export interface BoardRelease {
  id: string;
  number: number;
  digest: string;
  commit: string;
  /** Trust scope of its run. */
  line: string;
  /** Number of its run. */
  run: number;
  title: string;
  author: string;
  at: string | null;
  plans: Record<string, VariablePlan> | null;
  /** Instances that its parts ask for. */
  asked: number;
  /** About its own bytes; not of releases of pull requests, which are promoted nowhere. */
  evidence: { kind: EvidenceKind; name: string; source: string; detail: Record<string, unknown>; at: string }[] | null;
}

export interface BoardEnvironment
  extends Omit<
    EnvironmentRow,
    | 'created_at'
    | 'table_version'
    | 'opened_at'
    | 'state_since'
    | 'used_at'
    | 'woken_at'
    | 'keep_until'
    | 'healthy_since'
  > {
  healthy_since: string | null;
  opened_at: string;
  state_since: string;
  used_at: string;
  woken_at: string;
  keep_until: string | null;
  /** When its newest deployment was asked for. */
  pushed_at: string | null;
  /** The first name of its own whose certificate everyone trusts. */
  main_host: string | null;
  moving_id: string | null;
  /** The newest deployment, where it has failed. */
  failed_id: string | null;
  ready: number;
  pull: { number: number; title: string } | null;
  /** The moment of the oldest data that it began as a copy of. */
  data_of: string | null;
  /** Approvals for it of the releases that environments show. */
  approvals: (Approval & { release_id: string; author: boolean })[];
  /** The newest that was taken. */
  picture: { id: string; share: number | null; at: string; small: boolean } | null;
}

export interface BoardProject {
  id: string;
  name: string;
  source: SourceKind;
  main_branch: string;
  /** The newest commit of main; null: none yet. */
  head: string | null;
  definition_commit: string | null;
  /** The environments that its main definition declares. */
  plans: Record<
    string,
    Pick<
      EnvironmentPlan,
      'for' | 'after' | 'branch' | 'verify' | 'idle' | 'access' | 'promotion' | 'healthy' | 'approvals' | 'frozen'
    >
  > | null;
  run: RunOverview | null;
  environments: BoardEnvironment[];
  /** What the environments name, each once. */
  deployments: BoardDeployment[];
  releases: BoardRelease[];
  /** What people have set: the newest version of each name in each scope; null for a secret. */
  variables: { scope: string; name: string; version: number; value: string | null }[];
  /** The newest runs of its main branch. */
  runs: { number: number; commit: string }[];
}

/** Runs of main whose numbers are told: nobody counts more that wait. */
const runsTold = 100;

const statement = `
with shown as materialized (
  select env.*, moving.id as moving_id, case when newest.state = 'failed' then newest.id end as failed_id,
    newest.created_at as pushed_at
  from environments env
    left join lateral (
      select id, state, created_at from deployments where environment_id = env.id order by number desc limit 1
    ) newest on true
    left join lateral (
      select id from deployments
      where environment_id = env.id and state in ('queued', 'preparing', 'starting', 'cutover', 'verifying')
      order by number limit 1
    ) moving on true
  where ($1::uuid is null or env.project_id = $1) and (env.state <> 'closed' or env.id = $2)
),
used as materialized (
  select * from deployments where id in (select unnest(array[live_id, serving_id, moving_id, failed_id]) from shown)
),
of_environments as (
  select project_id, json_agg(x order by created_at, name) as list
  from (
    select e.id, e.project_id, e.name, e.kind, e.plan_name, e.pull_request, e.host,
      (select a.host from addresses a join certificates c on c.id = a.certificate_id
       where a.environment_id = e.id and a.removed_at is null and a.kind = 'own' and a.state = 'certified' and c.source <> 'local'
       order by a.created_at, a.host limit 1) as main_host, e.state, e.health, e.held_by,
      e.held_why, e.live_id, e.serving_id, e.moving_id, e.failed_id, e.issue, e.created_at,
      e.opened_at, e.state_since, e.depth, e.used_at, e.woken_at, e.keep_until, e.wake_issue, e.branch, e.outside, e.pushed_at,
      e.rules, e.frozen_by, e.healthy_since, coalesce(approved.list, '[]') as approvals,
      coalesce(i.ready, 0) as ready,
      case when q.number is not null then json_build_object('number', q.number, 'title', q.title) end as pull,
      (select min(s.data_of) from resources s where s.environment_id = e.id and s.state <> 'removed' and s.origin is not null) as data_of,
      picture.value as picture
    from shown e
      left join lateral (
        select json_agg(y) as list from (
          select a.release_id, a.person_id as person, o.name, a.digest, extract(epoch from a.at) * 1000 as at,
            o.role in ('releaser', 'owner') as may, a.author,
            ${withdrawn({ project: 'e.project_id', after: "e.rules->>'after'", number: 'own.number' })} as withdrawn
          from approvals a join people o on o.id = a.person_id join releases own on own.id = a.release_id
          where a.environment_id = e.id and a.release_id in (select release_id from used)
          order by a.at, a.id
        ) y
      ) approved on (e.rules->>'approvals')::int > 0
      left join pull_requests q on q.project_id = e.project_id and q.number = e.pull_request
      left join (
        select deployment_id, count(*) as ready from instances
        where deployment_id in (select id from used) and wanted and state = 'ready' group by deployment_id
      ) i on i.deployment_id = coalesce(e.serving_id, e.live_id)
      left join lateral (
        select json_build_object('id', g.id, 'share', g.share, 'at', g.taken_at,
          'small', exists (select 1 from picture_files f where f.picture_id = g.id and f.page = 0 and f.file = 'small')) as value
        from pictures g where g.environment_id = e.id and g.taken_at is not null order by g.created_at desc limit 1
      ) picture on true
  ) x
  group by project_id
),
of_deployments as (
  select project_id, json_agg(x) as list
  from (
    select id, project_id, number, release_id, kind, actor, state, failure, definition_commit, created_at, live_at,
      ended_at, warm_until, variables, secrets, override, joint_number, undoes
    from used
  ) x
  group by project_id
),
of_releases as (
  select project_id, json_agg(x) as list
  from (
    select r.id, r.project_id, r.number, r.digest, r.commit, r.line, coalesce(n.number, 0) as run,
      coalesce(c.title, '') as title, coalesce(c.author, '') as author, c.at, r.plan->'variables' as plans,
      (
        select coalesce(sum(case when part.value->>'kind' in ('site', 'job') then 0 when r.line <> 'own' then least((part.value->>'instances')::int, 1) else (part.value->>'instances')::int end), 0)
        from jsonb_each(r.plan->'parts') as part
      ) as asked,
      case when r.pull_request is null then (
        select json_agg(v order by v.at, v.name)
        from (select kind, name, source, detail, at from evidence where release_id = r.id and digest = r.digest) v
      ) end as evidence
    from releases r
      left join runs n on n.id = r.run_id
      left join commits c on c.project_id = r.project_id and c.id = r.commit
    where r.id in (select release_id from used)
  ) x
  group by project_id
),
of_variables as (
  select project_id, json_agg(x) as list
  from (
  select project_id, scope, name, version, value from (
    select distinct on (project_id, scope, name) project_id, scope, name, version, removed,
      case when secret then null else coalesce(value, '') end as value
    from variables where $1::uuid is null or project_id = $1
    order by project_id, scope, name, version desc
  ) newest
  where not removed
  ) x
  group by project_id
)
select p.id, p.name, p.source, p.main_branch, p.definition_commit,
  (select head from branches where project_id = p.id and name = p.main_branch) as head,
  (select d.model->'environments' from definitions d where d.project_id = p.id and d.commit = p.definition_commit) as plans,
  run.value as run,
  coalesce(of_environments.list, '[]') as environments,
  coalesce(of_deployments.list, '[]') as deployments,
  coalesce(of_releases.list, '[]') as releases,
  coalesce(of_variables.list, '[]') as variables,
  (
    select coalesce(json_agg(main), '[]')
    from (select number, commit from runs where project_id = p.id and branch = p.main_branch order by id desc limit ${runsTold}) main
  ) as runs
from projects p
  left join of_environments on of_environments.project_id = p.id
  left join of_deployments on of_deployments.project_id = p.id
  left join of_releases on of_releases.project_id = p.id
  left join of_variables on of_variables.project_id = p.id
  left join lateral (
    select json_build_object(
      'id', r.id, 'project_id', r.project_id, 'number', r.number, 'commit', r.commit, 'branch', r.branch,
      'pull_request', r.pull_request, 'line', r.line, 'state', r.state, 'cause', r.cause, 'actor', r.actor,
      'allowed', r.allowed, 'stopped_by', r.stopped_by, 'issue', r.issue, 'warnings', r.warnings,
      'released', r.released, 'fresh', r.fresh, 'superseded_by', r.superseded_by, 'trimmed_at', r.trimmed_at,
      'planned_at', r.planned_at, 'created_at', r.created_at, 'started_at', r.started_at, 'ended_at', r.ended_at,
      'tasks_total', r.tasks_total, 'tasks_ended', r.tasks_ended, 'project', p.name,
      'title', coalesce(c.title, ''), 'author', coalesce(c.author, ''), 'committed_at', c.at,
      'release', (select number from releases l where l.run_id = r.id),
      'expected_ms', case when r.state in ('waiting', 'running') then (
        select percentile_cont(0.5) within group (order by ms)::float8
        from (
          select extract(epoch from ended_at - created_at) * 1000 as ms
          from runs where project_id = p.id and state = 'passed' order by number desc limit 5
        ) past) end) as value
    from (
      select * from runs u where project_id = p.id and branch = p.main_branch and ${ofTheHead('u')} order by id desc limit 1
    ) r left join commits c on c.project_id = r.project_id and c.id = r.commit
  ) run on true
where p.removed_at is null and ($1::uuid is null or p.id = $1)
order by p.name`;

/**
 * @param only id of the one project that is wanted; null for all
 * @param closed id of a closed environment that is wanted, too
 */
export async function boardOf(db: Db, only: string | null, closed: string | null = null): Promise<BoardProject[]> {
  const rows = await query<BoardProject>(db, statement, [only, closed]);
  for (const { run } of rows) if (run) dated(run);
  return rows;
}

const times = ['created_at', 'started_at', 'ended_at', 'planned_at', 'trimmed_at', 'committed_at'] as const;

/** Times as they are elsewhere. */
function dated(run: RunOverview): void {
  for (const name of times) if (run[name]) (run as unknown as Record<string, Date>)[name] = new Date(run[name]);
}
