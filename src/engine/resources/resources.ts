/** Resources: taken under a fence, worked on outside of any transaction, written back only by whoever still holds them. */
import { sealedPlace } from '../../keys/places.js';
import { type Outcome, type ResourceAct, resourceAct, resourceDone } from '../../core/advance/resources.js';
import type { DatabaseAccess } from '../../core/states.js';
import { CodedError, type Issue, wording } from '../../core/errors/errors.js';
import type { DatabaseKind } from '../../resources/postgres/kind.js';
import { outcomeOf } from '../../resources/postgres/server.js';
import { environmentById } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { projectById } from '../../records/projects/projects.js';
import { backupById, removeBackupsOf } from '../../records/resources/backups.js';
import { dueLogins, endLoginsOf, endOverLogins, type LoginRow, settleLogins } from '../../records/resources/logins.js';
import {
  beginResource,
  type ResourceRow,
  setOrigin,
  settleResource,
  takeResource,
  wakeDeploymentsOf,
} from '../../records/resources/resources.js';
import { snapshotById, lookAtSnapshots } from '../../records/resources/snapshots.js';
import { bytesOfBackup, storedBytes } from './backups.js';
import { type Beginning, beginning } from './origins.js';
import { accessOf, look, tellAccess } from './look.js';
import { notify } from '../../records/database.js';
import { letGo, putOff } from '../../records/held.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Context } from '../context.js';
import { whileHeld } from '../held.js';
import { type Lanes, openLanes } from '../lanes.js';

/** Milliseconds for which a statement of prepare waits for a lock, unless it says otherwise. */
const prepareLockMs = 10_000;

/** Resources that one service works on at a time. */
const lanes = 4;
/** Milliseconds that a statement of a review's programs may take, unless they set another bound. */
const reviewStatementMs = 300_000;

export function resourceLanes(context: Context, free: () => void): Lanes {
  return openLanes({
    name: 'resource',
    count: lanes,
    take: async () => {
      const row = await takeResource(context.records, context.timing.lease);
      // What nobody needs any more is looked for when there is nothing else to do.
      return (
        row ?? ((await endOverLogins(context.records)) ? takeResource(context.records, context.timing.lease) : null)
      );
    },
    work: (row) => step(context, row),
    free,
    log: context.log,
  });
}

async function step(context: Context, row: ResourceRow): Promise<void> {
  const { records } = context;
  const logins = await dueLogins(records, row.id);
  const begins = await beginning(context, row);
  const facts = {
    state: row.state,
    wanted: row.wanted,
    tries: row.tries,
    logins: logins.length,
    access: row.access !== row.told_access,
    restore: row.restore_id !== null,
    waits: begins === 'waits',
  };
  const next = resourceAct(facts);
  if (!next) return void (await letGo(records, 'resources', row));
  // A restore that was asked for just now is looked at with all else.
  if (!(await beginResource(records, row, next.state))) return void (await putOff(records, 'resources', row, 0));
  const made: string[] = [];
  const ended: string[] = [];
  let outcome: Outcome;
  let told: Told | null = null;
  let data: Data | null = null;
  try {
    await whileHeld(context, 'resources', row, async () => {
      if (next.act === 'make' && begins !== null && begins !== 'waits') data = await begin(context, row, begins);
      told = await perform(context, row, next.act, logins, { made, ended, there: data !== null && data.of !== null });
    });
    outcome = { done: true };
  } catch (error) {
    outcome = outcomeOf(error);
    context.log.warn({ resource: row.id, act: next.act, error: String(error) }, 'a resource was not had');
  }
  const result = resourceDone(facts, next.act, outcome);
  await records.transition(`resource.${next.act}`, async (db) => {
    if (!(await settleResource(db, row, result, outcome.done ? told : null))) return;
    await settleLogins(db, made, ended);
    if (data) await setOrigin(db, row.id, data);
    if (outcome.done && told?.anew) await tellAccess(context, db, row, told.access, told.bytes);
    if (result.state === 'removed') await forget(db, row);
    const said = result.issue && wording(result.issue).says;
    if (next.act === 'restore' && result.state === 'ready') await tellRestore(db, row, outcome.done, said);
    else if (result.state !== row.state) await tell(db, row, result.state, said);
    if (result.state === 'removed') await makeDue(db, 'environments', row.environment_id);
    await wakeDeploymentsOf(db, row.environment_id);
    // What waits for a volume may start.
    if (row.kind === 'volume') await notify(db, 'work');
  });
  // How large it is in the beginning is known without anybody's question.
  if ((next.act === 'make' || next.act === 'restore') && outcome.done) await look(context, { ...row, state: 'ready' });
}

/**
 * With a resource go its logins; with its environment its backups too. Where a person removed it alone they stay: it may have been a
 * mistake.
 */
async function forget(db: Parameters<typeof recordEvents>[0], row: ResourceRow): Promise<void> {
  await endLoginsOf(db, row.id);
  await lookAtSnapshots(db, { resource: row.id });
  if ((await environmentById(db, row.environment_id)).state === 'closing') await removeBackupsOf(db, row.id);
}

async function tell(
  db: Parameters<typeof recordEvents>[0],
  row: ResourceRow,
  state: ResourceRow['state'],
  why: string | null,
): Promise<void> {
  // On the way there is nothing to tell.
  if (state === 'asked' || state === 'making' || state === 'removing') return;
  const environment = await environmentById(db, row.environment_id);
  const project = await projectById(db, environment.project_id);
  await recordEvents(db, {
    type: `resource.${state as 'ready' | 'failed' | 'removed'}`,
    project: project.id,
    subject: `${project.name}/${environment.name}`,
    actor: 'engine',
    data: { resource: row.name, kind: row.kind, why },
  });
}

async function tellRestore(
  db: Parameters<typeof recordEvents>[0],
  row: ResourceRow,
  done: boolean,
  why: string | null,
): Promise<void> {
  const environment = await environmentById(db, row.environment_id);
  const project = await projectById(db, environment.project_id);
  await recordEvents(db, {
    type: done ? 'restore.done' : 'restore.failed',
    project: project.id,
    subject: `${project.name}/${environment.name}`,
    actor: 'engine',
    data: { resource: row.name, why },
  });
}

type Data = Parameters<typeof setOrigin>[2];

/** What is new gets its data. Made already, it has that of then. */
async function begin(context: Context, row: ResourceRow, begins: Exclude<Beginning, 'waits'>): Promise<Data> {
  if ('empty' in begins) return { snapshot: null, of: null, why: begins.empty };
  if (row.kind === 'volume') return beginVolume(context, row, begins);
  const made = await context.kinds.database(row).makeOf(row.id, row.plan, begins.of.id);
  const of = made === begins.of.id ? begins.of : await snapshotById(context.records, made);
  return { snapshot: of?.id ?? null, of: of?.of_at ?? null, why: begins.why };
}

/** Files are written out: a volume is as large as its plan says, and what is written into it is nobody else's. */
async function beginVolume(
  context: Context,
  row: ResourceRow,
  { of, why }: Exclude<Beginning, 'waits' | { empty: Issue }>,
): Promise<Data> {
  const bytes = await storedBytes(context.blobs, of.digest, () => new CodedError('snapshot_gone'));
  const kind = context.kinds.of(row);
  await kind.make(row.id, row.plan);
  await kind.restore(row.id, `copy ${of.id}`, row.plan, bytes);
  return { snapshot: of.id, of: of.of_at, why };
}

/** Puts the backup that somebody asked for in the place of what is there. */
async function restore(context: Context, row: ResourceRow): Promise<void> {
  const backup = row.restore_id ? await backupById(context.records, row.restore_id) : null;
  if (!backup) throw new CodedError('backup_not_kept', { number: '', state: 'gone' });
  const turn = `${backup.id} ${row.restore_at?.getTime() ?? 0}`;
  await context.kinds.of(row).restore(row.id, turn, row.plan, await bytesOfBackup(context.blobs, backup));
}

async function perform(
  context: Context,
  row: ResourceRow,
  act: ResourceAct,
  logins: readonly LoginRow[],
  { made, ended, there }: { made: string[]; ended: string[]; there: boolean },
): Promise<Told | null> {
  const kind = context.kinds.of(row);
  if (act === 'remove') await kind.remove(row.id);
  if (act === 'restore') await restore(context, row);
  const enterLogins = async (): Promise<void> => {
    if (kind.kind === 'volume') return;
    for (const login of logins) {
      if (login.state === 'ending') {
        await kind.endLogin(row.id, login.id);
        ended.push(login.id);
      } else {
        const password = context.keys.decrypt(login.sealed, sealedPlace('logins', login.id));
        // Whoever changes tables waits for others, and holds nobody up for long.
        const lockMs = login.used_by === 'prepare' ? prepareLockMs : null;
        const statementMs = login.used_by === 'parts' && row.place !== 'standing' ? reviewStatementMs : null;
        await kind.addLogin(row.id, { id: login.id, password, until: login.expires_at, lockMs, statementMs });
        made.push(login.id);
      }
    }
  };
  // What was made of another one is there by now.
  if (act === 'make' && !there) await kind.make(row.id, row.plan, enterLogins);
  // What has none is opened by nothing but its place.
  if (kind.kind === 'volume' || act === 'remove') return null;
  const told = await letIn(context, row, act, kind);
  if (act !== 'make' || there) await enterLogins();
  return told;
}

/** What a server was told of who may write, and whether that was weighed anew for it. */
interface Told {
  access: DatabaseAccess;
  anew: boolean;
  /** Bytes that it held then; null where that was not looked at. */
  bytes: number | null;
}

/** Who may write from now on is said before programs begin with what was made, so that they find it as it shall be. */
async function letIn(context: Context, row: ResourceRow, act: ResourceAct, kind: DatabaseKind): Promise<Told | null> {
  // A restored one is another database, open to all of its programs.
  if (act === 'restore') return { access: 'open', anew: true, bytes: null };
  if (act !== 'make') {
    if (row.access === row.told_access) return null;
    await kind.allow(row.id, row.access);
    return { access: row.access, anew: false, bytes: null };
  }
  if (row.access === 'open' && row.told_access === 'open') return null;
  const { bytes } = await kind.look(row.id);
  const access = accessOf(context, row, bytes);
  await kind.allow(row.id, access);
  return { access, anew: true, bytes };
}
