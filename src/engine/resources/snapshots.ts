/** Snapshots: taken under a fence, worked on outside of any transaction, written back only by whoever still holds them. */
import { sealedPlace } from '../../keys/places.js';
import type { Readable } from 'node:stream';
import { rebased } from '../../blobs/rebased.js';
import type { Outcome } from '../../core/advance/resources.js';
import {
  failedWith,
  scrubStands,
  snapshotAct,
  type SnapshotAct,
  snapshotDone,
  type SnapshotFacts,
} from '../../core/advance/snapshots.js';
import type { ScrubPlan } from '../../core/definition/model.js';
import { CodedError, wording } from '../../core/errors/errors.js';
import { bytesText } from '../../core/sizes.js';
import type { Db } from '../../records/database.js';
import { environmentById, type EnvironmentRow } from '../../records/deployments/environments.js';
import { type EventType, recordEvents } from '../../records/events.js';
import { holdLonger, letGo, putOff } from '../../records/held.js';
import { projectById, type ProjectRow } from '../../records/projects/projects.js';
import { prepares } from '../../records/resources/backups.js';
import { lockResourceById, resourceById, type ResourceRow, wakeWaiting } from '../../records/resources/resources.js';
import {
  beginSnapshot,
  type Copied,
  replaceSnapshots,
  setScrub,
  settleSnapshot,
  type SnapshotRow,
  takeSnapshot,
} from '../../records/resources/snapshots.js';
import { addAttempts, attemptById, stopAttempt } from '../../records/runs/attempts.js';
import type { DatabaseKind } from '../../resources/postgres/kind.js';
import { codeOf, outcomeOf } from '../../resources/postgres/server.js';
import type { Context } from '../context.js';
import { newPassword } from '../deployments/needs.js';
import { whileHeld } from '../held.js';
import { type Lanes, openLanes } from '../lanes.js';
import { storedBytes } from './backups.js';
import { whileGiving } from './giving.js';
import { copiedFiles } from './open.js';
import { permitted } from './origins.js';

/** Snapshots that one service works on at a time: each is work for two servers. */
const lanes = 2;
/** Milliseconds for which one waits for its source: a deployment prepares it, or it is being restored. */
const laterMs = 5_000;
/** Milliseconds after which an end that nobody told is looked for. */
const unheardMs = 60_000;
/** How long the login of scrub opens anything, should nobody be left to end it. */
const loginMs = 12 * 3_600_000;
/** Bytes that a copy takes for each of its source: it, and beside it, for a while, what is written anew. */
const room = 2.5;

export function snapshotLanes(context: Context, free: () => void): Lanes {
  return openLanes({
    name: 'snapshot',
    count: lanes,
    take: () => takeSnapshot(context.records, context.timing.lease),
    work: (row) => step(context, row),
    free,
    log: context.log,
  });
}

interface Scene {
  source: ResourceRow;
  environment: EnvironmentRow;
  project: ProjectRow;
  place: string;
  /** What makes it fit for others; null where it may not be copied. */
  scrub: ScrubPlan | null;
  /** Milliseconds until nobody would make data of it any more; null before it is ready. */
  leftMs: number | null;
}

async function enter({ records, now }: Context, row: SnapshotRow): Promise<Scene> {
  const source = (await resourceById(records, row.resource_id)) as ResourceRow;
  const environment = await environmentById(records, source.environment_id);
  const project = await projectById(records, environment.project_id);
  const place = `${project.name}/${environment.name}`;
  const allowed = await permitted(records, environment, place);
  const there =
    source.wanted && source.state !== 'removed' && source.place !== 'elsewhere' && environment.live_id !== null;
  return {
    source,
    environment,
    project,
    place,
    scrub: there && 'scrub' in allowed ? allowed.scrub : null,
    leftMs: row.state === 'ready' && row.of_at ? row.of_at.getTime() + Number(row.fresh_ms) - now() : null,
  };
}

async function factsOf({ records }: Context, row: SnapshotRow, { scrub, leftMs }: Scene): Promise<SnapshotFacts> {
  const attempt = row.attempt_id ? await attemptById(records, row.attempt_id) : null;
  return {
    state: row.state,
    wanted: row.wanted && scrubStands(row, scrub) && (leftMs === null || leftMs > 0),
    tries: row.tries,
    issue: failedWith(row.state, row.issue),
    lost: row.lost,
    scrub: attempt && { state: attempt.state, why: attempt.issue ? wording(attempt.issue).says : '' },
  };
}

async function step(context: Context, row: SnapshotRow): Promise<void> {
  const { records } = context;
  const scene = await enter(context, row);
  const facts = await factsOf(context, row, scene);
  const next = snapshotAct(facts);
  if (!next) {
    if (row.state === 'scrubbing') return void (await putOff(records, 'snapshots', row, unheardMs));
    if (scene.leftMs !== null) return void (await putOff(records, 'snapshots', row, scene.leftMs));
    return void (await letGo(records, 'snapshots', row));
  }
  if (next.act === 'copy' && (scene.source.state !== 'ready' || (await prepares(records, scene.source.id))))
    return void (await putOff(records, 'snapshots', row, laterMs));
  const why = next.fails ?? facts.issue;
  if (!(await beginSnapshot(records, row, { state: next.state, issue: why, again: next.again === true }))) return;
  if (next.act === 'remove') {
    if (row.attempt_id) await stopAttempt(records, row.attempt_id);
    // Whoever waits for it need not wait until it has gone.
    await wakeWaiting(records, row.id);
  }
  const begun: SnapshotFacts = { ...facts, state: next.state, issue: why };
  let copied: Copied = {};
  let outcome: Outcome;
  try {
    copied = await whileHeld(context, 'snapshots', row, () => perform(context, row, next.act, scene));
    outcome = { done: true };
  } catch (error) {
    outcome = outcomeOf(error);
    // One that gave way is no failure of the server's.
    if (!outcome.done && outcome.issue.code === 'backup_gave_way')
      return void (await putOff(records, 'snapshots', row, laterMs));
    context.log.warn({ snapshot: row.id, act: next.act, error: String(error) }, 'a snapshot was not had');
  }
  const result = snapshotDone(begun, next.act, outcome);
  await records.transition(`snapshot.${next.act}`, async (db) => {
    // Whoever asks for data of it meanwhile sees it before or after, and is woken in both cases.
    await lockResourceById(db, row.resource_id);
    if (!(await settleSnapshot(db, row, result, copied))) return;
    if (next.act === 'scrub' && outcome.done) await beginScrub(db, row, scene);
    if (result.state === 'ready') await replaceSnapshots(db, row.resource_id, row.id);
    if (result.state === row.state) return;
    await wakeWaiting(db, row.id);
    if (result.state === 'ready' || result.state === 'failed' || result.state === 'removed')
      await tell(db, scene, `snapshot.${result.state}`, {
        bytes: copied.bytes ?? null,
        why: result.issue && wording(result.issue).says,
      });
  });
}

async function tell(
  db: Db,
  { source, project, place }: Scene,
  type: EventType,
  data: Record<string, string | number | null>,
): Promise<void> {
  await recordEvents(db, {
    type,
    project: project.id,
    subject: place,
    actor: 'engine',
    data: { resource: source.name, ...data },
  });
}

/** The attempt that scrubs it, of the deployment whose code was live when it was copied. */
async function beginScrub(db: Db, row: SnapshotRow, { project }: Scene): Promise<void> {
  const [attempt] = await addAttempts(db, [
    {
      kind: 'scrub',
      task: null,
      deployment: row.deployment_id,
      project: project.id,
      number: row.lost + 1,
      needs: { takes: 'live', base: null },
      priority: 0,
      part: row.scrub?.part ?? '',
    },
  ]);
  if (attempt) await setScrub(db, row, attempt);
}

async function perform(context: Context, row: SnapshotRow, act: SnapshotAct, scene: Scene): Promise<Copied> {
  if (scene.source.kind === 'volume') return ofVolume(context, row, act, scene);
  const own = context.kinds.database({ ...row, kind: 'postgres', name: scene.source.name, sealed: null });
  switch (act) {
    case 'copy':
      return copy(context, row, scene, own);
    case 'scrub': {
      if (!row.sealed) throw new CodedError('database_gone');
      const password = context.keys.decrypt(row.sealed, sealedPlace('snapshots', row.id));
      await own.addLogin(row.id, {
        id: row.id,
        password,
        until: new Date(context.now() + loginMs),
        lockMs: null,
        statementMs: null,
      });
      return {};
    }
    case 'settle':
      // After it was closed nobody enters it: the login has ended then.
      await own.endLogin(row.id, row.id).catch((error: unknown) => {
        if (codeOf(error) !== '55000') throw error;
      });
      return { bytes: await own.settle(row.id, scene.source.plan) };
    case 'remove':
      await own.remove(row.id);
      return {};
    default:
      return act satisfies never;
  }
}

/** Reads the source out and in beside it, in one go: nothing of it is stored between. */
async function copy(context: Context, row: SnapshotRow, scene: Scene, own: DatabaseKind): Promise<Copied> {
  const { records, timing, keeping } = context;
  const { source, scrub, environment } = scene;
  const from = context.kinds.database(source);
  const [{ bytes }, free] = [await from.look(source.id), await own.free()];
  if (free !== null && bytes * room > free - keeping.free)
    throw new CodedError('copy_disk', {
      size: bytesText(bytes * room),
      free: bytesText(Math.max(0, free - keeping.free)),
    });
  const of = new Date(context.now());
  let filling: Error | null = null;
  try {
    await whileGiving(
      records,
      { resource: source.id, hold: () => holdLonger(records, 'snapshots', row, timing.lease) },
      (given) =>
        from.backUp(
          source.id,
          row.id,
          async (contents) => {
            await own.fill(row.id, source.plan, contents).catch((error: Error) => {
              filling = error;
              throw error;
            });
            return { digest: '', size: 0 };
          },
          given,
        ),
    );
  } catch (error) {
    // A stream that ended too soon says nothing: whoever stopped reading it does.
    throw filling && /^(ERR_STREAM|EPIPE)/.test(codeOf(error)) ? filling : error;
  }
  if (!scrub || environment.live_id === null) throw new CodedError('snapshot_gone');
  return {
    of,
    scrub: {
      plan: scrub,
      deployment: environment.live_id,
      sealed: context.keys.encrypt(newPassword(), sealedPlace('snapshots', row.id)),
    },
  };
}

/**
 * The same of a volume. Its files are stored bytes from the beginning to the end: what its agent sends of it, then what its scrub hands
 * over. Nothing stands on any server, and what was before scrub goes with the bytes that nothing names any more.
 */
async function ofVolume(context: Context, row: SnapshotRow, act: SnapshotAct, scene: Scene): Promise<Copied> {
  const { blobs, kinds } = context;
  const { source, scrub, environment } = scene;
  const stored = async (digest: string | null): Promise<Readable> =>
    (await storedBytes(blobs, digest, () => new CodedError('snapshot_gone'))).open();
  switch (act) {
    case 'copy': {
      if (!scrub || environment.live_id === null) throw new CodedError('snapshot_gone');
      // Bytes that were read out once are as they were, whatever became of a scrub: they are of that moment.
      const of = row.of_at ?? new Date(context.now());
      const kept = await kinds.of(source).backUp(source.id, row.id, noStore, new AbortController().signal);
      const { digest, size } = await blobs.putLayer(rebased(await stored(kept.digest), { to: copiedFiles }));
      return { of, bytes: size, digest, scrub: { plan: scrub, deployment: environment.live_id, sealed: null } };
    }
    case 'settle': {
      const { digest, size } = await blobs.putLayer(rebased(await stored(row.output), { from: copiedFiles }));
      return { bytes: size, digest };
    }
    case 'scrub':
    case 'remove':
      return {};
    default:
      return act satisfies never;
  }
}

/** An agent sends what it reads to the service by itself. */
const noStore = async (bytes: Readable) => {
  bytes.destroy();
  return { digest: '', size: 0 };
};
