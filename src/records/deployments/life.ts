/** How environments fall asleep, wake and close: what is asked of them, when they were used, and how many others are at it. */
import { inOrder, lockedIds, noteLocks } from '../locks.js';
import type { Issue } from '../../core/errors/errors.js';
import type { EnvironmentPlan } from '../../core/definition/model.js';
import type { EnvironmentState, InstanceState, SleepDepth, Wish } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import type { DeploymentRow } from './deployments.js';
import type { ReleaseRow } from './releases.js';

export interface LifeChange {
  state: EnvironmentState;
  depth: SleepDepth | null;
  wakeIssue: Issue | null;
  /** What is asked of it, and is not done yet. */
  wish: Wish | null;
  /** Milliseconds until it is looked at again, at the latest; null: as it is due already. */
  againMs: number | null;
}

/** One of the instances that count for the life of an environment. */
export interface LifeInstance {
  id: string;
  part: string;
  kind: 'server' | 'worker';
  position: number;
  state: InstanceState;
  wanted: boolean;
  still: boolean;
  issue: Issue | null;
  /** Milliseconds since the epoch. */
  asked: number;
  ended: number | null;
}

/** All that is to be known of it for a step, as of one moment. Times in milliseconds since the epoch. */
export interface LifeRow {
  /** Name of its project. */
  project: string;
  /** Of what is live: what tells how many programs it asks for; null where nothing is. */
  release: Pick<ReleaseRow, 'plan'> | null;
  deployment: Pick<DeploymentRow, 'environment_plan' | 'fresh'> | null;
  /** What the main branch says of it by now. */
  plan: EnvironmentPlan | null;
  /** Of what is live; of one that closes all of them. */
  instances: LifeInstance[];
  moving: number;
  working: boolean;
  terminals: boolean;
  pushed: number | null;
  job: number | null;
  routed: boolean;
  asleep: boolean;
  /** Hosts and versions are there on each edge that answers, and on each that there is. */
  acknowledged: boolean;
  acknowledged_by_all: boolean;
  freezes: boolean;
  /** Others that are to start their programs before it, and agents that could. */
  before: number;
  agents: number;
  resources: number;
}

/** In one question, planned once: somebody waits for the answer of a program that sleeps. */
export const lifeOf = async (db: Db, id: string, edgeSilenceMs: number): Promise<LifeRow> => {
  const row = await queryOne<{ life: LifeRow | null }>(db, 'select life_of($1::uuid, $2::int) as life', [
    id,
    edgeSilenceMs,
  ]);
  if (!row?.life) throw new Error(`no environment ${id}`);
  return row.life;
};

/** Whether at least `limit` reviews of its plan are awake that were used later. */
export const isCrowded = async (
  db: Db,
  one: { id: string; project_id: string; plan_name: string },
  limit: number,
): Promise<boolean> =>
  (
    await queryOne<{ count: number }>(
      db,
      `select count(*)::int as count from (
         select 1 from environments
         where project_id = $1 and plan_name = $2 and kind = 'review' and state in ('live', 'waking') and id <> $3
           and (greatest(used_at, woken_at), id) > (select greatest(used_at, woken_at), id from environments where id = $3) limit $4) s`,
      [one.project_id, one.plan_name, one.id, limit],
    )
  )?.count === limit;

/** How many start their programs before one that waits for its turn. */
export const wakingBefore = async (db: Db, id: string): Promise<number> =>
  (
    await queryOne<{ count: number }>(
      db,
      `select count(*)::int as count from environments e, (select state_since, id from environments where id = $1) me
       where e.state = 'waking' and e.depth = 'ended' and (e.state_since, e.id) < (me.state_since, me.id)`,
      [id],
    )
  )?.count ?? 0;

/** Puts it into a state; whoever waits for it hears of that. Awake, or not to be woken, it counts as used just now. */
export async function setLife(
  db: Db,
  id: string,
  { state, depth, wakeIssue, wish, againMs }: LifeChange,
): Promise<void> {
  await query(
    db,
    `update environments set state_since = case when state = $2 then state_since else now() end,
       woken_at = case when $2 = 'live' and state <> 'live' then now() else woken_at end,
       used_at = case when $2 <> state and ($2 = 'live' or $4::jsonb is not null) then now() else used_at end,
       wish = $5, state = $2, depth = $3, wake_issue = $4,
       due_at = case when $6::float8 is null then due_at else least(coalesce(due_at, 'infinity'), now() + $6 * interval '1 ms') end
     where id = $1`,
    [id, state, depth, wakeIssue === null ? null : json(wakeIssue), wish, againMs],
  );
  if (againMs === 0) await notify(db, 'environments');
  await notify(db, `life:${id}`);
}

/** Sets when environments were last used, from a statement of `environment` and `at` over `$1`, where that is later than what is known. */
async function setUsed(db: Db, found: string, reports: readonly object[]): Promise<void> {
  const rows = await query<{ id: string }>(
    db,
    `with u as materialized (${found}), held as materialized (
       select e.id from environments e join u on u.environment = e.id where e.used_at < u.at order by e.id for no key update of e)
     update environments e set used_at = u.at from u, held where e.id = held.id and u.environment = e.id returning e.id`,
    [json(reports)],
  );
  noteLocks(db, 'environments', inOrder(rows));
}

/** It was used; later than what is known already. `at` in milliseconds. */
export async function markUsed(db: Db, uses: readonly { environment: string; at: number }[]): Promise<void> {
  if (uses.length === 0) return;
  await setUsed(
    db,
    `select r.environment, max(to_timestamp(r.at / 1000.0)) as at
     from jsonb_to_recordset($1::jsonb) as r(environment uuid, at float8)
       join environments v on v.id = r.environment and v.kind = 'review' group by 1`,
    uses,
  );
}

/** Parts of reviews that took the processor: use of it where they are workers, and those count. `at` in milliseconds. */
export async function markWorked(
  db: Db,
  works: readonly { environment: string; part: string; at: number }[],
): Promise<void> {
  if (works.length === 0) return;
  await setUsed(
    db,
    `select r.environment, max(to_timestamp(r.at / 1000.0)) as at
     from jsonb_to_recordset($1::jsonb) as r(environment uuid, part text, at float8)
       join environments v on v.id = r.environment and v.kind = 'review'
       join deployments d on d.id = v.live_id and d.environment_plan->'idle'->'count' ? 'workers'
       join releases l on l.id = d.release_id and l.plan->'parts'->r.part->>'kind' = 'worker'
     group by 1`,
    works,
  );
}

export const keepUntil = (db: Db, id: string, until: Date): Promise<unknown> =>
  query(db, 'update environments set keep_until = $2 where id = $1', [id, until]);

/** Reviews of its plan that are awake look at whether they are too many. In the order that everyone keeps. */
export async function lookForRoom(db: Db, project: string, plan: string): Promise<void> {
  await query(
    db,
    `update environments set due_at = now() where id in (
       select id from environments where project_id = $1 and plan_name = $2 and kind = 'review' and state = 'live'
       order by id for update skip locked)`,
    [project, plan],
  );
  await notify(db, 'environments');
}

/** Those that wait for their turn to start programs look again. */
export async function nextWaking(db: Db): Promise<void> {
  await query(
    db,
    `update environments set due_at = now() where id in (
       select id from environments where state = 'waking' and depth = 'ended' order by state_since limit 8 for update skip locked)`,
  );
  await notify(db, 'environments');
}

/** Environments that stand still and have databases at this place, the longest unused first, with the ids of these. */
export const frozenEnvironments = (db: Db, place: string, most = 200): Promise<{ id: string; resources: string[] }[]> =>
  query(
    db,
    `select e.id, array_agg(r.id::text) as resources from environments e
       join resources r on r.environment_id = e.id and r.kind = 'postgres' and r.state = 'ready' and r.place = $1
     where e.state = 'asleep' and e.depth = 'frozen' group by e.id order by e.used_at limit $2`,
    [place, most],
  );

/** Their programs end; what is awake by now stays. */
export async function endFrozen(db: Db, environments: readonly string[]): Promise<void> {
  const rows = await query<{ id: string }>(
    db,
    `update environments set depth = 'ended', due_at = now()
     where id in (${lockedIds('environments', `id = any($1::uuid[]) and state = 'asleep' and depth = 'frozen'`)}) returning id`,
    [environments],
  );
  noteLocks(db, 'environments', inOrder(rows));
  await notify(db, 'environments');
}

/** The frozen environment that was used longest ago and has programs on this agent ends them: its room is wanted. False when none has. */
export async function endLongestFrozen(db: Db, agent: string): Promise<boolean> {
  const row = await queryOne(
    db,
    `update environments set depth = 'ended', due_at = now() where id = (
       select e.id from environments e where e.state = 'asleep' and e.depth = 'frozen' and exists (
         select 1 from deployments d join instances i on i.deployment_id = d.id
         where d.environment_id = e.id and i.agent_id = $1 and i.state = 'frozen')
       order by e.used_at limit 1 for update skip locked) returning 1 as ok`,
    [agent],
  );
  if (row) await notify(db, 'environments');
  return row !== null;
}
