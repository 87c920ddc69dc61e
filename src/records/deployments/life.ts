/** How environments fall asleep, wake and close: what is asked of them, when they were used, and how many others are at it. */
import type { Issue } from '../../core/errors/errors.js';
import type { EnvironmentState, SleepDepth, Wish } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';

export interface LifeChange {
  state: EnvironmentState;
  depth: SleepDepth | null;
  wakeIssue: Issue | null;
}

/** Puts it into a state; whoever waits for it hears of that. */
export async function setLife(db: Db, id: string, { state, depth, wakeIssue }: LifeChange): Promise<void> {
  await query(
    db,
    `update environments set state_since = case when state = $2 then state_since else now() end,
       woken_at = case when $2 = 'live' and state <> 'live' then now() else woken_at end,
       state = $2, depth = $3, wake_issue = $4 where id = $1`,
    [id, state, depth, wakeIssue === null ? null : json(wakeIssue)],
  );
  await notify(db, `life:${id}`);
}

/** What somebody asks of it; null: nothing more. */
export async function setWish(db: Db, id: string, wish: Wish | null): Promise<void> {
  await query(db, 'update environments set wish = $2 where id = $1', [id, wish]);
}

/** It was used; later than what is known already. `at` in milliseconds. */
export async function markUsed(db: Db, uses: readonly { environment: string; at: number }[]): Promise<void> {
  if (uses.length === 0) return;
  await query(
    db,
    `update environments e set used_at = u.at from (
       select r.environment, max(to_timestamp(r.at / 1000.0)) as at from jsonb_to_recordset($1::jsonb) as r(environment uuid, at float8) group by 1) u
     where e.id = u.environment and e.kind = 'review' and e.used_at < u.at`,
    [json(uses)],
  );
}

/** Parts of reviews that took the processor: use of it where they are workers, and those count. `at` in milliseconds. */
export async function markWorked(
  db: Db,
  works: readonly { environment: string; part: string; at: number }[],
): Promise<void> {
  if (works.length === 0) return;
  await query(
    db,
    `update environments e set used_at = u.at from (
       select r.environment, max(to_timestamp(r.at / 1000.0)) as at
       from jsonb_to_recordset($1::jsonb) as r(environment uuid, part text, at float8)
         join environments v on v.id = r.environment and v.kind = 'review'
         join deployments d on d.id = v.live_id and d.environment_plan->'idle'->'count' ? 'workers'
         join releases l on l.id = d.release_id and l.plan->'parts'->r.part->>'kind' = 'worker'
       group by 1) u
     where e.id = u.environment and e.used_at < u.at`,
    [json(works)],
  );
}

export const keepUntil = (db: Db, id: string, until: Date): Promise<unknown> =>
  query(db, 'update environments set keep_until = $2, due_at = now() where id = $1', [id, until]);

/** Whether at least `limit` reviews of its plan are awake that were used later. */
export const isCrowded = async (
  db: Db,
  one: { id: string; project_id: string; plan_name: string; used_at: Date },
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

/** How many were to start their programs anew before this one, and are at it. */
export const wakingBefore = async (db: Db, id: string): Promise<number> =>
  (
    await queryOne<{ count: number }>(
      db,
      `select count(*)::int as count from environments e, (select state_since, id from environments where id = $1) me
       where e.state = 'waking' and e.depth = 'ended' and (e.state_since, e.id) < (me.state_since, me.id)`,
      [id],
    )
  )?.count ?? 0;

/** Those that wait for their turn to start programs look again. */
export async function nextWaking(db: Db): Promise<void> {
  await query(
    db,
    `update environments set due_at = now() where id in (
       select id from environments where state = 'waking' and depth = 'ended' order by state_since limit 8 for update skip locked)`,
  );
  await notify(db, 'environments');
}

/** Agents that take what is live and are there; at least one. */
export const liveAgents = async (db: Db): Promise<number> =>
  Math.max(
    1,
    (
      await queryOne<{ count: number }>(
        db,
        `select count(*)::int as count from agents where 'live' = any(takes) and lease_until > now()`,
      )
    )?.count ?? 1,
  );

/** Whether every agent that has programs of a deployment can freeze them. */
export const agentsFreeze = async (db: Db, deployment: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from instances i join agents a on a.id = i.agent_id
     where i.deployment_id = $1 and i.wanted and i.state in ('starting', 'ready', 'frozen')
       and not coalesce((a.sandbox->>'freezes')::boolean, false) limit 1`,
    [deployment],
  )) === null;

/** When the newest deployment was asked for; null where there is none. */
export const lastAsked = async (db: Db, environment: string): Promise<Date | null> =>
  (
    await queryOne<{ at: Date | null }>(db, 'select max(created_at) as at from deployments where environment_id = $1', [
      environment,
    ])
  )?.at ?? null;

/** Whether somebody has a terminal there. */
export const terminalsGoOn = async (db: Db, environment: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from terminals where environment_id = $1 and state in ('wanted', 'given', 'open') limit 1`,
    [environment],
  )) !== null;

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
