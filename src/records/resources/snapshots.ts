/** Snapshots of databases: asked for by reviews and people, worked on under a fence like resources are. */
import type { InferAttributes } from 'sequelize';
import type { SnapshotStep } from '../../core/advance/snapshots.js';
import type { ScrubPlan } from '../../core/definition/model.js';
import type { Issue } from '../../core/errors/errors.js';
import type { ResourcePlace, SnapshotState } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { takeHeld } from '../held.js';
import { newId } from '../ids.js';
import type { Snapshot } from '../models/resources/snapshots.js';

export type SnapshotRow = InferAttributes<Snapshot>;

const columns =
  'id, resource_id, place, actor, state, wanted, issue, tries, lost, fence::text as fence, due_at, lease_until, scrub, deployment_id, attempt_id, sealed, fresh_ms::text as fresh_ms, of_at, bytes::text as bytes, created_at, ready_at, ended_at, digest, output';

/** Those of a resource that are on a server, the newest first; a few of those that failed before. */
export const snapshotsOf = (db: Db, resource: string, limit = 20): Promise<SnapshotRow[]> =>
  query(
    db,
    `select ${columns} from snapshots where resource_id = $1 and state <> 'removed' order by created_at desc, id desc limit $2`,
    [resource, limit],
  );

export const snapshotById = (db: Db, id: string): Promise<SnapshotRow | null> =>
  queryOne(db, `select ${columns} from snapshots where id = $1`, [id]);

/** The one that an attempt scrubs. */
export const snapshotOfAttempt = (db: Db, attempt: string): Promise<SnapshotRow | null> =>
  queryOne(db, `select ${columns} from snapshots where attempt_id = $1`, [attempt]);

/** Asks for one of a locked resource. */
export async function addSnapshot(
  db: Db,
  of: { resource: string; place: ResourcePlace; actor: string; freshMs: number; deployment: string | null },
): Promise<string> {
  const id = newId();
  await query(
    db,
    'insert into snapshots (id, resource_id, place, actor, fresh_ms, deployment_id) values ($1, $2, $3, $4, $5, $6)',
    [id, of.resource, of.place, of.actor, of.freshMs, of.deployment],
  );
  await notify(db, 'snapshots');
  return id;
}

/** Somebody would make data of it for so long. */
export const keepFresh = (db: Db, id: string, freshMs: number): Promise<unknown> =>
  query(db, 'update snapshots set fresh_ms = $2 where id = $1 and fresh_ms < $2', [id, freshMs]);

export const takeSnapshot = (db: Db, leaseMs: number): Promise<SnapshotRow | null> =>
  takeHeld<SnapshotRow>(db, 'snapshots', columns, leaseMs);

/** Records what is about to be done; false when it is somebody else's by now. */
export const beginSnapshot = async (
  db: Db,
  { id, fence }: Pick<SnapshotRow, 'id' | 'fence'>,
  { state, issue, again }: { state: SnapshotState; issue: Issue | null; again: boolean },
): Promise<boolean> =>
  (await queryOne(
    db,
    `update snapshots set state = $3, issue = $4,
       lost = lost + case when $5 then 1 else 0 end, attempt_id = case when $5 then null else attempt_id end
     where id = $1 and fence = $2::bigint returning 1 as ok`,
    [id, fence, state, issue === null ? null : json(issue), again],
  )) !== null;

/** What is known of a copy, besides its state. */
export interface Copied {
  of?: Date;
  bytes?: number;
  /** Of a volume: its files as they are now. */
  digest?: string;
  /** The scrub that makes it fit for others: of whose code, and the login that it has. */
  scrub?: { plan: ScrubPlan; deployment: string; sealed: Buffer | null };
}

/** Records what came of it, and lets it go; false when it is somebody else's by now. Who has woken it meanwhile is heard. */
export const settleSnapshot = async (
  db: Db,
  { id, fence }: Pick<SnapshotRow, 'id' | 'fence'>,
  { state, issue, tries, againMs }: SnapshotStep,
  { of, bytes, digest, scrub }: Copied,
): Promise<boolean> =>
  (await queryOne(
    db,
    `update snapshots set state = $3, issue = $4, tries = $5, lease_until = null,
       of_at = coalesce($7, of_at), bytes = coalesce($8, bytes),
       scrub = coalesce($9::jsonb, scrub), deployment_id = coalesce($10, deployment_id),
       sealed = case when $3 = 'scrubbing' then coalesce($11, sealed) end,
       digest = case when $3 in ('removed', 'failed') then null else coalesce($12, digest) end,
       output = case when $3 in ('scrubbing', 'settling') then output end,
       ready_at = case when $3 = 'ready' then coalesce(ready_at, now()) else ready_at end,
       ended_at = case when $3 in ('removed', 'failed') then now() end,
       due_at = least(due_at, case when $6::float8 is null then null else now() + $6::float8 * interval '1 ms' end)
     where id = $1 and fence = $2::bigint returning 1 as ok`,
    [
      id,
      fence,
      state,
      issue === null ? null : json(issue),
      tries,
      againMs,
      of ?? null,
      bytes ?? null,
      scrub ? json(scrub.plan) : null,
      scrub?.deployment ?? null,
      scrub?.sealed ?? null,
      digest ?? null,
    ],
  )) !== null;

/** The attempt that scrubs it. */
export const setScrub = (db: Db, { id, fence }: Pick<SnapshotRow, 'id' | 'fence'>, attempt: string): Promise<unknown> =>
  query(db, 'update snapshots set attempt_id = $3 where id = $1 and fence = $2::bigint', [id, fence, attempt]);

/** Its scrub has ended; `output`: what it has handed over. */
export async function wakeSnapshot(db: Db, attempt: string, output: string | null): Promise<void> {
  await query(db, 'update snapshots set due_at = now(), output = $2 where attempt_id = $1', [attempt, output]);
  await notify(db, 'snapshots');
}

const open = `state not in ('removed', 'failed')`;

/** A newer one has taken the place of those before it. */
export async function replaceSnapshots(db: Db, resource: string, by: string): Promise<void> {
  await query(
    db,
    `update snapshots set wanted = false, due_at = now() where resource_id = $1 and id <> $2 and state = 'ready' and wanted`,
    [resource, by],
  );
  await notify(db, 'snapshots');
}

/** Whether one may still be copied has changed: of a resource, an environment, or all of a project. Each looks; `end`: each ends. */
export async function lookAtSnapshots(
  db: Db,
  of: { resource: string } | { environment: string } | { project: string },
  { end = false }: { end?: boolean } = {},
): Promise<void> {
  const [such, id] =
    'resource' in of
      ? ['resource_id = $1', of.resource]
      : 'environment' in of
        ? ['resource_id in (select id from resources where environment_id = $1)', of.environment]
        : [
            'resource_id in (select r.id from resources r join environments e on e.id = r.environment_id where e.project_id = $1)',
            of.project,
          ];
  const rows = await query(
    db,
    `update snapshots set due_at = now(), wanted = wanted and not $2::boolean where ${such} and ${open} returning 1`,
    [id, end],
  );
  if (rows.length) await notify(db, 'snapshots');
}

/** Reviews whose data is made of it, or waits for it. */
export const usersOfSnapshot = async (db: Db, id: string): Promise<number> =>
  (
    await queryOne<{ count: number }>(
      db,
      `select count(*)::int as count from resources where snapshot_id = $1 and state <> 'removed'`,
      [id],
    )
  )?.count ?? 0;

/** What is long over, and nothing is made of any more. */
export const dropOldSnapshots = (db: Db): Promise<unknown> =>
  query(
    db,
    `delete from snapshots s where state in ('removed', 'failed') and ended_at < now() - interval '30 days'
       and not exists (select 1 from resources r where r.snapshot_id = s.id)`,
  );
