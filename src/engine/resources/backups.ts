/** Backups: asked for by people and by plans, written outside of any transaction, tried where nobody uses what comes of it. */
import { backupDone, type BackupTried, needless, nextOf } from '../../core/advance/backups.js';
import type { Outcome } from '../../core/advance/resources.js';
import { CodedError, wording } from '../../core/errors/errors.js';
import { outcomeOf } from '../../resources/postgres/server.js';
import type { Db } from '../../records/database.js';
import { environmentById } from '../../records/deployments/environments.js';
import { type EventType, recordEvents } from '../../records/events.js';
import { projectById } from '../../records/projects/projects.js';
import {
  addBackup,
  askTry,
  type BackupRow,
  backupsOf,
  holdBackup,
  planDue,
  prepares,
  putBackupOff,
  removeBackups,
  setPlans,
  settleBackup,
  settleTry,
  takeBackup,
} from '../../records/resources/backups.js';
import { beginRestore, dropRestore, resourceById, type ResourceRow } from '../../records/resources/resources.js';
import type { StoredBytes } from '../../resources/kinds.js';
import type { Context } from '../context.js';
import { type Lanes, openLanes } from '../lanes.js';
import { whileGiving } from './giving.js';

/** Backups that one service writes or tries at a time: each is work for its server. */
const lanes = 2;
/** Milliseconds for which a backup waits for a deployment to have prepared. */
const laterMs = 5_000;

export function backupLanes(context: Context, free: () => void): Lanes {
  return openLanes({
    name: 'backup',
    count: lanes,
    take: async () => {
      const row = await takeBackup(context.records, context.timing.lease);
      return row ?? ((await plan(context)) ? takeBackup(context.records, context.timing.lease) : null);
    },
    work: (row) => step(context, row),
    free,
    log: context.log,
  });
}

/** Asks for what a plan wants now; false where none wants anything. */
const plan = (context: Context): Promise<boolean> =>
  context.records.transition('backup.planned', async (db) => {
    const due = await planDue(db);
    if (!due?.every_ms) return false;
    const at = (everyMs: number) => new Date(nextOf(everyMs, context.now(), context.now()));
    if (due.backup_due) await addBackup(db, due.id, 'plan', true);
    if (due.try_due) await askTry(db, due.id);
    await setPlans(
      db,
      due.id,
      due.backup_due ? at(due.every_ms) : null,
      due.try_due ? at(due.try_ms ?? due.every_ms) : null,
    );
    return true;
  });

async function step(context: Context, row: BackupRow): Promise<void> {
  const { records, timing } = context;
  const resource = await resourceById(records, row.resource_id);
  if (row.state === 'removed' || !resource) return;
  if (row.state === 'kept') return tryOne(context, row, resource);
  // Nobody who changes files waits for whoever reads them.
  const gives = resource.kind === 'postgres';
  if (gives && (await prepares(records, resource.id))) return void (await putBackupOff(records, row, laterMs));
  if (!(await holdBackup(records, row, timing.lease))) return;
  let outcome: Outcome;
  let kept: { digest: string; bytes: number; at: Date } | null = null;
  try {
    kept = await whileGiving(
      records,
      { resource: gives ? resource.id : null, hold: () => holdBackup(records, row, timing.lease) },
      (given) => write(context, row, resource, given),
    );
    outcome = { done: true };
  } catch (error) {
    const failed = outcomeOf(error);
    // One that gave way is no failure of the server's.
    if (failed.issue.code === 'backup_gave_way') return void (await putBackupOff(records, row, laterMs));
    outcome = failed;
    context.log.warn({ backup: row.id, error: String(error) }, 'a backup was not written');
  }
  const result = backupDone(row.tries, outcome);
  await records.transition('backup.written', async (db) => {
    if (!(await settleBackup(db, row, result, kept))) return;
    if (result.state === 'kept') {
      await dropNeedless(db, resource);
      await beginRestore(db, resource.id, row.id);
    } else if (result.state === 'failed' && (await dropRestore(db, resource.id, row.id, result.issue)))
      await tell(db, resource, 'restore.failed', row, { why: result.issue && wording(result.issue).says });
    if (result.state === 'kept' || result.state === 'failed')
      await tell(db, resource, result.state === 'kept' ? 'backup.kept' : 'backup.failed', row, {
        bytes: kept?.bytes ?? null,
        why: result.issue && wording(result.issue).says,
      });
  });
}

async function write(
  context: Context,
  row: BackupRow,
  resource: ResourceRow,
  abort: AbortSignal,
): Promise<{ digest: string; bytes: number; at: Date }> {
  if (resource.state !== 'ready')
    throw new CodedError('resource_not_ready', {
      name: resource.name,
      environment: 'its environment',
      state: resource.state,
    });
  const at = new Date(context.now());
  const { digest, size } = await context.kinds
    .of(resource)
    .backUp(resource.id, row.id, (bytes) => context.blobs.put(bytes), abort);
  return { digest, bytes: size, at };
}

async function dropNeedless(db: Db, resource: ResourceRow): Promise<void> {
  const keep = resource.plan.backup?.keep;
  if (!keep) return;
  const kept = (await backupsOf(db, resource.id, 1_000)).filter((one) => one.state === 'kept');
  const gone = needless(kept, keep).map((one) => one.id);
  if (gone.length) await removeBackups(db, gone);
}

/** Restores it beside its resource: whether a backup is one is known only then. */
async function tryOne(context: Context, row: BackupRow, resource: ResourceRow): Promise<void> {
  const { records, timing, blobs } = context;
  const began = performance.now();
  const holding = setInterval(() => void holdBackup(records, row, timing.lease).catch(() => {}), timing.lease / 3);
  const result: BackupTried = { passed: true, tables: null, rows: null, files: null, ms: 0, issue: null };
  try {
    const bytes = await bytesOfBackup(blobs, row);
    Object.assign(result, await context.kinds.of(resource).tryOut(resource.id, row.id, resource.plan, bytes));
  } catch (error) {
    Object.assign(result, { passed: false, issue: outcomeOf(error).issue });
    context.log.warn({ backup: row.id, error: String(error) }, 'a backup could not be restored beside its resource');
  } finally {
    clearInterval(holding);
  }
  const tried = { ...result, ms: Math.round(performance.now() - began) };
  await records.transition('backup.tried', async (db) => {
    if (!(await settleTry(db, row, tried))) return;
    await tell(db, resource, 'backup.tried', row, {
      passed: String(tried.passed),
      tables: tried.tables,
      rows: tried.rows,
      files: tried.files ?? null,
      why: tried.issue && wording(tried.issue).says,
    });
  });
}

/** What is stored of a backup. Throws `backup_not_kept` where it is not there any more. */
export const bytesOfBackup = (
  blobs: Context['blobs'],
  { digest, number }: Pick<BackupRow, 'digest' | 'number'>,
): Promise<StoredBytes> =>
  storedBytes(blobs, digest, () => new CodedError('backup_not_kept', { number, state: 'gone' }));

/** Stored bytes; throws what `gone` says where they are not there, or not any more. */
export async function storedBytes(
  blobs: Context['blobs'],
  digest: string | null,
  gone: () => CodedError,
): Promise<StoredBytes> {
  if (digest === null || (await blobs.size(digest)) === null) throw gone();
  return {
    digest,
    async open() {
      const found = await blobs.open(digest);
      if (!found) throw gone();
      return found.stream;
    },
  };
}

async function tell(
  db: Db,
  resource: ResourceRow,
  type: EventType,
  row: BackupRow,
  data: Record<string, string | number | null>,
): Promise<void> {
  const environment = await environmentById(db, resource.environment_id);
  const project = await projectById(db, environment.project_id);
  await recordEvents(db, {
    type,
    project: project.id,
    subject: `${project.name}/${environment.name}`,
    actor: row.planned ? 'engine' : row.actor,
    data: { resource: resource.name, backup: row.number, ...data },
  });
}
