/** Volumes: what a kind of resource does, done by the agents that have them. Whoever asks waits until an agent has told. */
import { agentFor } from '../../core/advance/chores.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import { sizeText } from '../../core/sizes.js';
import type { ChoreAct } from '../../core/states.js';
import type { VolumeKind } from '../../resources/volumes/kind.js';
import { leadTo, routeBody } from '../../records/callers/edges.js';
import { lockEnvironment } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { projectById } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Route } from '../../core/cutover/route.js';
import { roomsNow } from '../../records/deployments/instances.js';
import { backupById, addBackup } from '../../records/resources/backups.js';
import { askChore, choreById, type ChoreRow, doneChore, dropChore } from '../../records/resources/chores.js';
import { noteIssue, resourceById, type ResourceRow, resourcesOf } from '../../records/resources/resources.js';
import {
  addVolume,
  agentsOfOthers,
  closeVolumes,
  endUsers,
  idleVolumes,
  lockVolume,
  moveVolume,
  seeVolumes,
  servesFrom,
  type SeenVolume,
  type VolumeRow,
  volumeById,
  volumesOf,
} from '../../records/resources/volumes.js';
import type { Context, Db } from '../context.js';
import { untilEdgesHave } from '../edges.js';

type Working = Pick<Context, 'records' | 'timing' | 'now'>;

/** Milliseconds between two looks at whether an agent has told, at first and at most. */
const firstLook = 10;
const lastLook = 500;
/** Milliseconds for which programs may take to end, besides what they are given to drain. */
const endMs = 10_000;
/** Milliseconds for which edges are waited for, which are to lead nobody to what ends. */
const edgesMs = 1_000;

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

interface Wish {
  act: ChoreAct;
  turn: string;
  size?: number | null;
  digest?: string | null;
}

/** Asks the agent of a volume, and waits for what it tells. Throws what it says, or `volume_away`. */
async function done(
  { records }: Working,
  volume: VolumeRow,
  { act, turn, size = null, digest = null }: Wish,
  abort?: AbortSignal,
): Promise<ChoreRow> {
  const asked = await records.transition('chore.asked', async (db) => {
    await lockVolume(db, volume.id);
    return askChore(db, { volume: volume.id, agent: volume.agent_id, act, turn, size, digest });
  });
  for (let wait = firstLook; ; wait = Math.min(lastLook, wait * 1.5)) {
    if (abort?.aborted) {
      await dropChore(records, asked.id);
      throw new CodedError('backup_gave_way');
    }
    const row = await choreById(records, asked.id);
    if (row?.state === 'done') return row;
    if (row?.state === 'failed') {
      const { code, data } = row.issue ?? issue('volume_failed', { agent: volume.agent, detail: '' });
      throw new CodedError(code, data);
    }
    // Somebody has asked for something else in its place.
    if (!row || row.state === 'dropped') throw new CodedError('volume_in_use', { count: 1 });
    if (!(await volumeById(records, volume.id))?.alive) {
      // Nobody waits for it any more: an agent that comes back later does not do what was given up meanwhile.
      await dropChore(records, asked.id);
      throw new CodedError('volume_away', { agent: volume.agent });
    }
    await pause(wait);
  }
}

export function volumeKind(context: Working): VolumeKind {
  const { records } = context;
  const thereNow = async (resource: string) =>
    (await volumesOf(records, resource)).find((one) => one.state === 'there');
  const there = async (resource: string): Promise<VolumeRow> => {
    const row = await thereNow(resource);
    if (!row) throw new CodedError('volume_gone', { agent: 'its agent' });
    return row;
  };
  /** The one that is being made on an agent, or on the one that is best. */
  const making = async (resource: ResourceRow, on: string | null): Promise<VolumeRow> => {
    const id = await records.transition('volume.making', async (db) => {
      const rows = await volumesOf(db, resource.id);
      const own = rows.find((one) => one.state === 'making');
      if (own && (on === null ? own.alive : own.agent_id === on)) return own.id;
      // One that was begun on an agent that has gone since, or shall not have it any more.
      if (own) await unwanted(db, own);
      const agent = on ?? agentFor(await agentsOfOthers(db, resource.environment_id, resource.id), await roomsNow(db));
      if (agent === null) throw new CodedError('volume_no_agent');
      return addVolume(db, resource.id, agent);
    });
    return (await volumeById(records, id)) as VolumeRow;
  };
  /** It is made, or filled: programs use it from now on, and what was there before is left. */
  const settle = (volume: VolumeRow) =>
    records.transition('volume.there', async (db) => {
      for (const one of await volumesOf(db, volume.resource_id)) {
        const row = await lockVolume(db, one.id);
        if (row && row.id !== volume.id && row.state === 'there') await moveVolume(db, row, 'replaced');
      }
      const row = await lockVolume(db, volume.id);
      if (row) await moveVolume(db, row, 'ready');
    });
  /** Nobody has its files open meanwhile, nor begins to. Who dies over it is followed by another one, who does it again. */
  const whileClosed = async (resource: ResourceRow, work: () => Promise<unknown>): Promise<void> => {
    try {
      await quiet(context, resource);
      await work();
    } finally {
      await reopen(context, resource);
    }
  };
  const need = async (id: string): Promise<ResourceRow> => {
    const row = await resourceById(records, id);
    if (!row) throw new CodedError('volume_gone', { agent: 'its agent' });
    return row;
  };
  return {
    kind: 'volume',
    async make(id, { size = 0 }) {
      const resource = await need(id);
      await needSpace(records, resource);
      const now = await thereNow(id);
      const volume = now ?? (await making(resource, null));
      try {
        await done(context, volume, { act: 'make', turn: String(size), size });
      } catch (error) {
        if (!(error instanceof CodedError) || error.issue.code !== 'volume_closed_first') throw error;
        await whileClosed(resource, () => done(context, volume, { act: 'enlarge', turn: String(size), size }));
      }
      if (!now) await settle(volume);
    },
    async look(id) {
      const { used } = await there(id);
      return { bytes: Number(used ?? 0), connections: null };
    },
    async backUp(id, copy, _store, abort) {
      const backup = await backupById(records, copy);
      const volume = backup?.volume_id ? await volumeById(records, backup.volume_id) : await there(id);
      if (!volume) throw new CodedError('volume_gone', { agent: 'its agent' });
      const { kept_digest: digest, kept_bytes: bytes } = await done(
        context,
        volume,
        { act: 'back up', turn: copy },
        abort,
      );
      if (digest === null)
        throw new CodedError('volume_failed', { agent: volume.agent, detail: 'it has sent nothing' });
      return { digest, size: Number(bytes) };
    },
    async restore(id, turn, { size = 0 }, from) {
      const resource = await need(id);
      const now = await thereNow(id);
      const elsewhere = resource.restore_agent_id !== null && resource.restore_agent_id !== now?.agent_id;
      const volume = elsewhere || !now ? await making(resource, resource.restore_agent_id) : now;
      await whileClosed(resource, async () => {
        const fulfilled = await doneChore(records, { volume: volume.id, act: 'restore', turn });
        if (!fulfilled) {
          if (volume.state === 'making') await done(context, volume, { act: 'make', turn: String(size), size });
          await done(context, volume, { act: 'restore', turn, size, digest: from.digest });
        }
        if (volume.state === 'making') await settle(volume);
      });
    },
    async tryOut(id, copy, { size = 0 }, from) {
      const { found } = await done(context, await there(id), { act: 'try', turn: copy, size, digest: from.digest });
      return { tables: null, rows: null, files: found?.files ?? 0 };
    },
    async remove(id) {
      const resource = await need(id);
      // Those of agents that are away go when they are back.
      await records.transition('volume.unwanted', async (db) => {
        // What is warm still has it open.
        await closeVolumes(db, id, true);
        await endUsers(db, resource.environment_id, resource.name);
        for (const one of await volumesOf(db, id)) {
          const row = await lockVolume(db, one.id);
          if (row) await unwanted(db, row);
        }
      });
    },
    close: async () => {},
  };
}

/** Bytes that the volumes of a stranger's review may hold together: they are reserved on the disk of an agent. */
const untrustedBytes = 256 * 1024 ** 2;

/** Throws `volume_untrusted` where strangers ask for more than they may have. */
async function needSpace(db: Db, { place, environment_id }: ResourceRow): Promise<void> {
  if (place !== 'untrusted') return;
  const asked = (await resourcesOf(db, environment_id)).reduce((sum, one) => sum + (one.plan.size ?? 0), 0);
  if (asked > untrustedBytes)
    throw new CodedError('volume_untrusted', { size: sizeText(asked), most: sizeText(untrustedBytes) });
}

const unwanted = (db: Db, row: VolumeRow) => leaves(db, row, 'unwanted');

/** It goes as soon as its agent is there. */
async function leaves(db: Db, row: VolumeRow, why: 'unwanted' | 'saved'): Promise<void> {
  await moveVolume(db, row, why);
  await askChore(db, { volume: row.id, agent: row.agent_id, act: 'remove', turn: '', size: null, digest: null });
}

/**
 * Nobody begins to use it from now on, and visitors are led to none of the programs that do, as soon as the edges know; gives the
 * table's version from which on they are not, null where none of the programs is one that visitors are led to.
 */
const close = ({ records }: Working, resource: ResourceRow): Promise<{ host: string; version: number } | null> =>
  records.transition('volume.closed', async (db) => {
    const environment = await lockEnvironment(db, resource.environment_id);
    await closeVolumes(db, resource.id, true);
    const { id, host, serving_id: serving } = environment;
    if (!serving || !(await servesFrom(db, id, resource.name))) return null;
    const route = (await routeBody(db, host)) as Route | null;
    if (!route) return null;
    if (route.closed) return { host, version: environment.table_version };
    const version = await leadTo(db, environment, serving, { ...route, closed: true });
    await recordEvents(db, {
      type: 'traffic.stopped',
      project: environment.project_id,
      subject: `${(await projectById(db, environment.project_id)).name}/${environment.name}`,
      actor: 'engine',
      data: { for: resource.name, version },
    });
    return { host, version };
  });

/** It may be used again; what is live follows, and the table with it as soon as its programs are there. */
const reopen = ({ records }: Working, resource: ResourceRow): Promise<void> =>
  records.transition('volume.opened', async (db) => {
    const { serving_id: serving } = await lockEnvironment(db, resource.environment_id);
    await closeVolumes(db, resource.id, false);
    if (serving) await makeDue(db, 'deployments', serving);
  });

/** Ends all that has its files open, and waits for that. Throws `volume_in_use`. */
async function quiet(context: Working, resource: ResourceRow): Promise<void> {
  const { records, timing, now } = context;
  const closed = await close(context, resource);
  if (closed) await untilEdgesHave(records, closed, { ms: edgesMs, everyMs: firstLook });
  const until = now() + timing.drain + endMs;
  for (;;) {
    const count = await records.transition('volume.quiet', (db) =>
      endUsers(db, resource.environment_id, resource.name),
    );
    if (count === 0) return;
    if (now() >= until) throw new CodedError('volume_in_use', { count });
    await pause(100);
  }
}

/** What an agent has seen of its volumes. */
export async function seen(
  context: Pick<Context, 'records'>,
  agent: { id: string; name: string },
  list: readonly SeenVolume[],
) {
  for (const resource of await seeVolumes(context.records, agent.id, list))
    await noteIssue(context.records, resource, issue('volume_gone', { agent: agent.name }));
}

/** What nobody waits for: volumes that were left are backed up when their agents are back, then removed; what could not be had goes. */
export async function sweepVolumes(context: Context): Promise<void> {
  for (const { id, state, resource_id, backup } of await idleVolumes(context.records)) {
    await context.records.transition('volume.swept', async (db) => {
      const row = await lockVolume(db, id);
      if (row?.state !== state) return;
      if (state !== 'left') return unwanted(db, row);
      if (backup === null) await addBackup(db, resource_id, 'engine', false, id);
      else if (backup === 'kept' || backup === 'removed') await leaves(db, row, 'saved');
    });
  }
}
