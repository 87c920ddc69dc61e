/** What environments have of their own: taken by whoever works on it under a fence, and written back only by that one. */
import { makeDeploymentsDue } from '../deployments/deployments.js';
import type { InferAttributes } from 'sequelize';
import type { ResourceStep } from '../../core/advance/resources.js';
import { canonical } from '../../core/canonical.js';
import type { Issue } from '../../core/errors/errors.js';
import type { Origin, ResourcePlan } from '../../core/definition/model.js';
import type { DatabaseAccess, ResourcePlace } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { takeHeld } from '../held.js';
import { newId } from '../ids.js';
import type { Resource } from '../models/resources/resources.js';

export type ResourceRow = InferAttributes<Resource>;

const columns =
  'id, environment_id, name, kind, plan, place, sealed, state, state_since, wanted, issue, tries, fence::text as fence, due_at, lease_until, bytes::text as bytes, connections, looked_at, most::text as most, access, told_access, restore_id, restore_at, restore_after_id, restore_agent_id, origin, snapshot_id, origin_issue, data_of, next_backup_at, next_try_at, created_at, ready_at, removed_at';

/** Those that are there, by name. */
export const resourcesOf = (db: Db, environment: string): Promise<ResourceRow[]> =>
  query(db, `select ${columns} from resources where environment_id = $1 and state <> 'removed' order by name`, [
    environment,
  ]);

export const resourceById = (db: Db, id: string): Promise<ResourceRow | null> =>
  queryOne(db, `select ${columns} from resources where id = $1`, [id]);

/** The same, locked. */
export const lockResourceById = (db: Db, id: string): Promise<ResourceRow | null> =>
  queryOne(db, `select ${columns} from resources where id = $1 for update`, [id]);

export const findResource = (db: Db, environment: string, name: string): Promise<ResourceRow | null> =>
  queryOne(db, `select ${columns} from resources where environment_id = $1 and name = $2 and state <> 'removed'`, [
    environment,
    name,
  ]);

/** The same, locked. */
export const lockResource = (db: Db, environment: string, name: string): Promise<ResourceRow | null> =>
  queryOne(
    db,
    `select ${columns} from resources where environment_id = $1 and name = $2 and state <> 'removed' for update`,
    [environment, name],
  );

const originOf = ({ name }: ResourcePlan, origins: Readonly<Record<string, Origin>>): string | null =>
  Object.hasOwn(origins, name) ? json(origins[name]) : null;

/**
 * Asks for what a deployment needs, under the lock of its environment: what is not there is added, what failed or is planned otherwise
 * is asked for again. Gives the names of those that were.
 */
export async function askResources(
  db: Db,
  environment: string,
  place: ResourcePlace,
  plans: readonly ResourcePlan[],
  /** What the data of new ones begins as; of others it stays as it is. */
  origins: Readonly<Record<string, Origin>>,
): Promise<string[]> {
  const there = new Map((await resourcesOf(db, environment)).map((row) => [row.name, row]));
  const asked: string[] = [];
  for (const plan of plans) {
    const row = there.get(plan.name);
    if (!row)
      await query(
        db,
        `insert into resources (id, environment_id, name, kind, plan, place, origin) values ($1, $2, $3, $4, $5, $6, $7)`,
        [newId(), environment, plan.name, plan.kind, json(plan), place, originOf(plan, origins)],
      );
    // One that goes is waited for; its name is free when it has gone.
    else if (row.state === 'removing' || !row.wanted) continue;
    else if (row.state !== 'failed' && canonical(row.plan) === canonical(plan)) continue;
    else
      await query(
        db,
        `update resources set plan = $2, tries = 0, due_at = now(), next_backup_at = null, next_try_at = null,
           state = case when state = 'failed' or state = 'ready' and place <> 'elsewhere' then 'asked' else state end,
           state_since = case when state = 'failed' or state = 'ready' and place <> 'elsewhere' then now() else state_since end
         where id = $1`,
        [row.id, json(plan)],
      );
    asked.push(plan.name);
  }
  if (asked.length) await notify(db, 'resources');
  return asked;
}

export const takeResource = (db: Db, leaseMs: number): Promise<ResourceRow | null> =>
  takeHeld<ResourceRow>(db, 'resources', columns, leaseMs);

/** Records what it is in while something is done outside; false when it is somebody else's, or in another state, by now. */
export const beginResource = async (
  db: Db,
  { id, fence, state: before }: Pick<ResourceRow, 'id' | 'fence' | 'state'>,
  state: ResourceRow['state'],
): Promise<boolean> =>
  (await queryOne(
    db,
    `update resources set state = $3, state_since = case when state = $3 then state_since else now() end
     where id = $1 and fence = $2::bigint and state = $4 returning 1 as ok`,
    [id, fence, state, before],
  )) !== null;

/** A restore was asked for while something else was done: nobody works on one in this state. */
const restoreAsked = `(state = 'asked' and restore_id is not null and $3 not in ('removing', 'removed'))`;

/** Records what came of it, and lets it go; false when it is somebody else's by now. Who has woken it meanwhile is heard. */
export async function settleResource(
  db: Db,
  { id, fence }: Pick<ResourceRow, 'id' | 'fence'>,
  { state, issue, tries, againMs }: ResourceStep,
  /** What its server was told of who may write, and whether that was weighed anew for it; null: nothing. */
  told: { access: DatabaseAccess; anew: boolean } | null,
): Promise<boolean> {
  const done = await queryOne(
    db,
    `update resources set state = case when ${restoreAsked} then state else $3 end, issue = $4,
       tries = case when ${restoreAsked} then tries else $5 end, lease_until = null,
       state_since = case when state = $3 or ${restoreAsked} then state_since else now() end,
       ready_at = case when $3 = 'ready' then coalesce(ready_at, now()) else ready_at end,
       removed_at = case when $3 = 'removed' then now() end,
       sealed = case when $3 = 'removed' then null else sealed end,
       told_access = coalesce($7, told_access), access = case when $8 then $7 else access end,
       restore_id = case when $3 = 'making' or restore_after_id is not null or ${restoreAsked} then restore_id end,
       restore_agent_id = case when $3 = 'making' or restore_after_id is not null or ${restoreAsked} then restore_agent_id end,
       due_at = least(due_at, case when $6::float8 is null then null else now() + $6::float8 * interval '1 ms' end)
     where id = $1 and fence = $2::bigint returning 1 as ok`,
    [id, fence, state, issue === null ? null : json(issue), tries, againMs, told?.access ?? null, told?.anew ?? false],
  );
  if (done) await notify(db, 'resources');
  return done !== null;
}

/** It waits for that snapshot. */
export const awaitSnapshot = (db: Db, id: string, snapshot: string): Promise<unknown> =>
  query(
    db,
    `update resources set snapshot_id = $2, due_at = coalesce(due_at, now() + interval '1 minute') where id = $1`,
    [id, snapshot],
  );

/** What its data began as. */
export const setOrigin = (
  db: Db,
  id: string,
  { snapshot, of, why }: { snapshot: string | null; of: Date | null; why: Issue | null },
): Promise<unknown> =>
  query(db, 'update resources set snapshot_id = $2, data_of = $3, origin_issue = $4 where id = $1', [
    id,
    snapshot,
    of,
    why === null ? null : json(why),
  ]);

/** Those that wait for a snapshot look again. */
export async function wakeWaiting(db: Db, snapshot: string): Promise<void> {
  await query(
    db,
    `update resources set due_at = now() where snapshot_id = $1 and state in ('asked', 'making') and data_of is null`,
    [snapshot],
  );
  await notify(db, 'resources');
}

/** It is wanted no longer. */
export async function unwantResource(db: Db, id: string): Promise<void> {
  await query(db, 'update resources set wanted = false, due_at = now() where id = $1', [id]);
  await notify(db, 'resources');
}

export const unwantResourcesOf = async (db: Db, environment: string): Promise<void> => {
  const rows = await query(
    db,
    `update resources set wanted = false, due_at = now() where environment_id = $1 and wanted and state <> 'removed' returning 1`,
    [environment],
  );
  if (rows.length) await notify(db, 'resources');
};

/** What is wrong with one that is there. */
export const noteIssue = (db: Db, id: string, issue: Issue): Promise<unknown> =>
  query(db, `update resources set issue = $2 where id = $1 and state = 'ready'`, [id, json(issue)]);

/** What was seen of a locked one from outside, and what follows for those who write to it. */
export async function keepLook(
  db: Db,
  id: string,
  seen: { bytes: number; connections: number | null; most: number | null; access: DatabaseAccess },
): Promise<void> {
  const rows = await query(
    db,
    `update resources set bytes = $2, connections = $3, looked_at = now(), most = $4, access = $5,
       due_at = case when told_access <> $5 then now() else due_at end
     where id = $1 and state = 'ready' returning told_access <> $5 as behind`,
    [id, seen.bytes, seen.connections, seen.most, seen.access],
  );
  if (rows.some((row) => (row as { behind: boolean }).behind)) await notify(db, 'resources');
}

/** Deployments of its environment that are on their way, and what is live now: they may wait for it, or for a login. */
export const wakeDeploymentsOf = async (db: Db, environment: string): Promise<void> => {
  await makeDeploymentsDue(
    db,
    `environment_id = $1 and (state in ('queued', 'preparing', 'starting', 'cutover', 'verifying')
       or id = (select live_id from environments where id = $1))`,
    [environment],
  );
  await notify(db, 'deployments');
};

/** A backup is to take the place of what is there; where `after` is named, as soon as that one is kept. */
export async function askRestore(
  db: Db,
  id: string,
  backup: string,
  after: string | null,
  /** The agent that is to have its files. */
  on: string | null,
): Promise<void> {
  await query(
    db,
    'update resources set restore_id = $2, restore_at = now(), restore_after_id = $3, restore_agent_id = $4 where id = $1',
    [id, backup, after, on],
  );
  if (after === null) await beginRestore(db, id, null);
}

/** What was waited for is kept. */
export async function beginRestore(db: Db, id: string, after: string | null): Promise<void> {
  await query(
    db,
    `update resources set state = 'asked', state_since = now(), tries = 0, restore_after_id = null, due_at = now()
     where id = $1 and restore_id is not null and restore_after_id is not distinct from $2 and state = 'ready'`,
    [id, after],
  );
  await notify(db, 'resources');
}

/** What was waited for failed: nothing is restored. False when nothing waited for it. */
export const dropRestore = async (db: Db, id: string, after: string, why: Issue | null): Promise<boolean> =>
  (await queryOne(
    db,
    `update resources set restore_id = null, restore_after_id = null, restore_agent_id = null, issue = $3 where id = $1 and restore_after_id = $2 returning 1 as ok`,
    [id, after, why === null ? null : json(why)],
  )) !== null;

/** A server elsewhere takes the place of one that would be made here. */
export const connectResource = async (
  db: Db,
  id: string,
  environment: string,
  plan: ResourcePlan,
  sealed: Buffer,
): Promise<void> => {
  await query(
    db,
    `insert into resources (id, environment_id, name, kind, plan, place, sealed) values ($1, $2, $3, $4, $5, 'elsewhere', $6)
     on conflict (environment_id, name) where state <> 'removed'
     do update set sealed = excluded.sealed, state = 'asked', state_since = now(), tries = 0, due_at = now()`,
    [id, environment, plan.name, plan.kind, json(plan), sealed],
  );
  await notify(db, 'resources');
};

/** Those that were removed and whose backups are kept, the newest of each name, where no other has taken it. */
export const leftResources = (db: Db, environment: string): Promise<ResourceRow[]> =>
  query(
    db,
    `select distinct on (name) ${columns} from resources r
     where environment_id = $1 and state = 'removed'
       and exists (select 1 from backups b where b.resource_id = r.id and b.state = 'kept')
       and not exists (select 1 from resources other where other.environment_id = $1 and other.name = r.name and other.state <> 'removed')
     order by name, id desc`,
    [environment],
  );

/** Databases that are there and were not looked at for so long, the longest first; each is put behind the others at once. */
export const unseenResources = (db: Db, ms: number, most: number): Promise<ResourceRow[]> =>
  query(
    db,
    `update resources set looked_at = now() where id in (
       select id from resources where state = 'ready' and kind <> 'volume' and place <> 'elsewhere' and coalesce(looked_at, '-infinity') < now() - $1::int * interval '1 ms'
       order by looked_at nulls first limit $2 for update skip locked)
     returning ${columns}`,
    [ms, most],
  );
