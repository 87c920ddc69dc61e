/** Backups: asked for, written under a fence like resources are worked on, kept as stored bytes. */
import type { InferAttributes } from 'sequelize';
import type { BackupStep, BackupTried } from '../../core/advance/backups.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { takeHeld } from '../held.js';
import { newId } from '../ids.js';
import type { Backup } from '../models/resources/backups.js';

export type BackupRow = InferAttributes<Backup>;

const columns =
  'id, resource_id, number, actor, planned, state, issue, digest, bytes::text as bytes, fence::text as fence, due_at, lease_until, tries, of_at, tried_at, tried, volume_id, created_at, ended_at';

/** The newest first. */
export const backupsOf = (db: Db, resource: string, limit = 100): Promise<BackupRow[]> =>
  query(
    db,
    `select ${columns} from backups where resource_id = $1 and state <> 'removed' order by number desc limit $2`,
    [resource, limit],
  );

/** Of a resource that was removed too: the newest of the name that has a backup of this number. */
export const findBackup = (db: Db, environment: string, resource: string, number: number): Promise<BackupRow | null> =>
  queryOne(
    db,
    `select ${columns.replace(/(^|, )(\w+)/g, '$1b.$2')} from backups b join resources r on r.id = b.resource_id
     where r.environment_id = $1 and r.name = $2 and b.number = $3 and b.state <> 'removed' order by r.id desc limit 1`,
    [environment, resource, number],
  );

export const backupById = (db: Db, id: string): Promise<BackupRow | null> =>
  queryOne(db, `select ${columns} from backups where id = $1`, [id]);

/** Asks for one; its number is the next of its resource, which is locked. */
export async function addBackup(
  db: Db,
  resource: string,
  actor: string,
  planned: boolean,
  /** Default: the one that programs use. */
  volume: string | null = null,
): Promise<BackupRow> {
  await query(db, 'select 1 from resources where id = $1 for update', [resource]);
  const row = await queryOne<BackupRow>(
    db,
    `insert into backups (id, resource_id, number, actor, planned, volume_id)
     select $1, $2, coalesce(max(number), 0) + 1, $3, $4, $5 from backups where resource_id = $2 returning ${columns}`,
    [newId(), resource, actor, planned, volume],
  );
  await notify(db, 'backups');
  return row as BackupRow;
}

/** Takes the one that has waited longest, as resources are taken: to be written, or, where it is kept, to be tried. */
export const takeBackup = (db: Db, leaseMs: number): Promise<BackupRow | null> =>
  takeHeld<BackupRow>(db, 'backups', columns, leaseMs);

/** Holds it longer; false when it is somebody else's by now. */
export const holdBackup = async (
  db: Db,
  { id, fence }: Pick<BackupRow, 'id' | 'fence'>,
  leaseMs: number,
): Promise<boolean> =>
  (await queryOne(
    db,
    `update backups set lease_until = now() + $3::int * interval '1 ms', state = case when state = 'asked' then 'making' else state end
     where id = $1 and fence = $2::bigint returning 1 as ok`,
    [id, fence, leaseMs],
  )) !== null;

/** Lets it go, to be taken again after a while: it may not be written now. */
export const putBackupOff = (db: Db, { id, fence }: Pick<BackupRow, 'id' | 'fence'>, ms: number): Promise<unknown> =>
  query(
    db,
    `update backups set lease_until = null, due_at = now() + $3::int * interval '1 ms' where id = $1 and fence = $2::bigint`,
    [id, fence, ms],
  );

/** Records what came of writing it; false when it is somebody else's by now. */
export const settleBackup = async (
  db: Db,
  { id, fence }: Pick<BackupRow, 'id' | 'fence'>,
  { state, issue, tries, againMs }: BackupStep,
  kept: { digest: string; bytes: number; at: Date } | null,
): Promise<boolean> =>
  (await queryOne(
    db,
    `update backups set state = $3, issue = $4, tries = $5, lease_until = null, digest = $7, bytes = $8, of_at = $9,
       ended_at = case when $3 in ('kept', 'failed') then now() end,
       due_at = case when $6::float8 is null then null else now() + $6::float8 * interval '1 ms' end
     where id = $1 and fence = $2::bigint and state <> 'removed' returning 1 as ok`,
    [
      id,
      fence,
      state,
      issue === null ? null : json(issue),
      tries,
      againMs,
      kept?.digest ?? null,
      kept?.bytes ?? null,
      kept?.at ?? null,
    ],
  )) !== null;

/** What came of restoring it beside its resource. */
export const settleTry = async (
  db: Db,
  { id, fence }: Pick<BackupRow, 'id' | 'fence'>,
  tried: BackupTried,
): Promise<boolean> =>
  (await queryOne(
    db,
    `update backups set tried = $3, tried_at = now(), lease_until = null where id = $1 and fence = $2::bigint returning 1 as ok`,
    [id, fence, json(tried)],
  )) !== null;

/** Whether it is to take the place of some resource. */
export const isRestored = async (db: Db, id: string): Promise<boolean> =>
  (await queryOne(db, 'select 1 as ok from resources where restore_id = $1 or restore_after_id = $1 limit 1', [id])) !==
  null;

/** Its bytes may go with the next round of upkeep. */
export const removeBackups = (db: Db, ids: readonly string[]): Promise<unknown> =>
  query(
    db,
    // Whoever writes one of them still holds it no more: what it has written is not kept.
    `update backups set state = 'removed', due_at = null, lease_until = null, fence = fence + 1, ended_at = now()
     where id = any($1::uuid[])`,
    [ids],
  );

export const removeBackupsOf = (db: Db, resource: string): Promise<unknown> =>
  query(
    db,
    `update backups set state = 'removed', due_at = null, lease_until = null, fence = fence + 1, ended_at = coalesce(ended_at, now())
     where resource_id = $1 and state <> 'removed'`,
    [resource],
  );

/** Whether a newer try of prepare waits for the locks that a backup holds, or a deployment is about to begin one. */
export const prepares = async (db: Db, resource: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from resources r join deployments d on d.environment_id = r.environment_id
     where r.id = $1 and d.state in ('queued', 'preparing') limit 1`,
    [resource],
  )) !== null;

export interface PlannedResource {
  id: string;
  every_ms: number | null;
  try_ms: number | null;
  backup_due: boolean;
  try_due: boolean;
}

/** One resource whose plan asks for a backup, or for a try of one; locked. */
export const planDue = (db: Db): Promise<PlannedResource | null> =>
  queryOne(
    db,
    `select r.id, (r.plan#>>'{backup,everyMs}')::float8 as every_ms, (r.plan#>>'{backup,tryMs}')::float8 as try_ms,
       coalesce(r.next_backup_at, '-infinity') <= now() as backup_due,
       r.plan#>>'{backup,tryMs}' is not null and coalesce(r.next_try_at, '-infinity') <= now()
         and exists (select 1 from backups b where b.resource_id = r.id and b.state = 'kept') as try_due
     from resources r join environments e on e.id = r.environment_id
     where r.state = 'ready' and r.wanted and r.place <> 'elsewhere' and e.state = 'live' and r.plan#>>'{backup,everyMs}' is not null
       and (coalesce(r.next_backup_at, '-infinity') <= now()
         or r.plan#>>'{backup,tryMs}' is not null and coalesce(r.next_try_at, '-infinity') <= now()
           and exists (select 1 from backups b where b.resource_id = r.id and b.state = 'kept'))
     limit 1 for update of r skip locked`,
  );

export const setPlans = (db: Db, id: string, backup: Date | null, attempt: Date | null): Promise<unknown> =>
  query(
    db,
    'update resources set next_backup_at = coalesce($2, next_backup_at), next_try_at = coalesce($3, next_try_at) where id = $1',
    [id, backup, attempt],
  );

/** The newest that is kept is to be tried. */
export async function askTry(db: Db, resource: string): Promise<void> {
  await query(
    db,
    `update backups set due_at = now() where id = (
       select id from backups where resource_id = $1 and state = 'kept' order by number desc limit 1)`,
    [resource],
  );
  await notify(db, 'backups');
}
