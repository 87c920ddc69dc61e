/**
 * The keeper of an instance: a process of its own that outlives the agent, and what is written down of it.
 *
 * The instance's folder holds all that a restart needs: `state.json` (what it is, its port, its keeper by id and start time, how far
 * its log was sent), `log.N`, `lease` (workers), `exit` when it has ended, `lease-over` when its lease ended it.
 */
import {
  closeSync,
  existsSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { uptime } from 'node:os';
import { join } from 'node:path';
import { type Static, Type } from '@sinclair/typebox';
import { untilDone } from '../../wire/rooms/client.js';
import { readKept, writeKept } from '../../wire/rooms/kept.js';
import { Nullable } from '../../wire/parts.js';
import { InstanceWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';
import { clearPlace, discard } from '../files/remove.js';
import { handsInside, handsOf, makeHands } from '../sandbox/hands.js';
import { besideCommand, networkOf, prepareFolder, writeChain } from '../sandbox/chain.js';
import { findLimits, type LimitsWay } from '../sandbox/host.js';
import { groupOf, instanceLimits, type Limits, makeGroup, reviewWeight } from '../sandbox/limits.js';
import { signal, startTime } from '../sandbox/processes.js';
import type { ChainFrame, ChainWork } from '../sandbox/work.js';
import { type NamedReach, namedReach } from '../settings.js';
import { volumeBinds } from '../volumes/binds.js';
import { freePort, givePort } from './ports.js';
import { pastaOf, spawnKeeper } from './standing.js';

/** Where the log was read up to, and the position in the stream at which the service goes on from there. */
const LogMark = Type.Object({ segment: Type.Integer(), offset: Type.Integer(), position: Type.Integer() });
export type LogMark = Static<typeof LogMark>;

const InstanceState = Type.Object({
  work: InstanceWork,
  port: Nullable(Type.Integer()),
  keeper: Nullable(Type.Integer()),
  keeperStart: Nullable(Type.String()),
  ready: Type.Boolean(),
  /** The agent was told to end it. */
  ending: Type.Boolean(),
  /** It stands still, or is about to. */
  frozen: Type.Optional(Type.Boolean()),
  log: LogMark,
});
export type InstanceState = Static<typeof InstanceState>;

/** Where an instance's folder lies. */
export const folderOf = (agentFolder: string, id: string): string => join(agentFolder, 'live', id);

export const freshState = (work: InstanceWork): InstanceState => ({
  work,
  port: null,
  keeper: null,
  keeperStart: null,
  ready: false,
  ending: false,
  // A log goes on where the service has it: an instance that its agent starts anew is the same one to people.
  log: { segment: 0, offset: 0, position: work.logBytes },
});

/** What an earlier agent has written down; throws where there is nothing to go on with. */
export function readState(folder: string): InstanceState {
  const state = readKept(join(folder, 'state.json'), InstanceState);
  if (!state || state.keeper === null) throw new Error('it was never started');
  // Its agent died before it had told it to begin.
  if (existsSync(join(folder, 'held')) && !existsSync(join(folder, 'begun'))) throw new Error('it has never begun');
  return state;
}

/** Throws where it cannot be written: of what begins now nothing would be known. */
export function save(state: InstanceState, folder: string, change: Partial<InstanceState>): void {
  Object.assign(state, change);
  writeKept(join(folder, 'state.json'), state);
}

/**
 * The same for what runs already: on a full disk the reserve makes room, and where that does not help it goes on with what was written
 * before. It is written with the next change.
 */
export function saveLater(
  { reserve, log }: Pick<AgentContext, 'reserve' | 'log'>,
  state: InstanceState,
  folder: string,
  change: Partial<InstanceState>,
): void {
  try {
    save(state, folder, change);
    return;
  } catch {
    reserve.release();
  }
  try {
    save(state, folder, {});
  } catch (error) {
    log.warn({ instance: state.work.id, error: String(error) }, 'the state of an instance could not be written');
  }
}

/** What an instance may take: as its part says, else as every instance may. */
export const limitsOf = ({ memory, cpu, behind }: Pick<InstanceWork, 'memory' | 'cpu' | 'behind'>): Limits => ({
  ...instanceLimits,
  ...(behind ? { weight: reviewWeight } : {}),
  memory: memory ?? instanceLimits.memory,
  cpu: cpu ?? instanceLimits.cpu,
});

export async function launch(
  context: AgentContext,
  state: InstanceState,
  folder: string,
  given: AbortSignal,
): Promise<void> {
  const { work } = state;
  const { host, layers, client } = context;
  const paths = await Promise.all(
    work.layers.map((digest) =>
      untilDone(
        () => layers.output(digest, () => client.getStream(`/api/agent/blobs/${digest}`), given),
        () => context.stopped() || given.aborted,
      ),
    ),
  );
  const named = await namedReach(work.reach ?? []);
  const limits = limitsOf(work);
  const open = work.network !== 'none';
  const chain = {
    layers: paths,
    writable: false,
    variables: work.variables,
    network: { open, listen: null, ...named, only: open ? [] : named.only },
    binds: [{ from: handsOf(folder), to: handsInside, fixed: true as const }, ...volumeBinds(context, work.volumes)],
    tmp: limits.memory,
    command: besideCommand(work.start),
  };
  const { memory, processes } = limits;
  const frame = {
    folder,
    account: host.accounts.live,
    // A server is asked from outside, whatever it may ask itself.
    network: work.kind === 'server' ? host.network : networkOf(chain, host.network),
    writable: false,
    watchLease: work.kind === 'worker',
    group: makeGroup(host.limits, work.id, limits),
    tied: false,
    runs: 'held' as const,
    rlimits:
      host.limits === 'none' ? { file: memory, processes, memory } : { file: memory, processes: null, memory: null },
  };
  clearPlace(context.folder, folder);
  const place = { context, state, frame, chain };
  // Those that stand ready have a network.
  if (work.kind === 'server' && work.network !== 'none' && (await beginStanding(place, named))) return;
  await startKeeper(place);
}

interface Starting {
  context: AgentContext;
  state: InstanceState;
  frame: ChainFrame;
  chain: ChainWork;
}

/** Writes down what runs; a server hears of its port. */
function writeWork({ context, frame, chain, state }: Starting): void {
  const { port, work } = state;
  makeHands(frame.folder, frame.account);
  writeLease(frame.folder, context.leaseUntil());
  const variables = { ...work.variables, ...(port === null ? {} : { PORT: String(port) }) };
  const listen = port === null ? null : { address: context.address, port };
  writeChain(frame, { ...chain, variables, network: { ...chain.network, listen } }, join(context.folder, 'bin'));
}

/** Lets a server begin in a place that stands ready; false where there is none that is tied like this. */
async function beginStanding(starting: Starting, named: NamedReach): Promise<boolean> {
  const { context, state, frame } = starting;
  const { address, ports } = context;
  const { reach, through, bounded } = named;
  const standing = await context.standing.take({ address, ports, reach, through, bounded });
  if (!standing) return false;
  try {
    standing.settle(frame.folder, frame.group);
  } catch (error) {
    context.log.warn({ instance: state.work.id, error: String(error) }, 'a place that stood ready could not be used');
    clearPlace(context.folder, frame.folder);
    return false;
  }
  const { port, pid } = standing;
  // Given back with the rest, whatever goes wrong from here on.
  Object.assign(state, { port, keeper: pid, keeperStart: startTime(pid), log: freshState(state.work).log });
  writeWork(starting);
  // Whoever follows this agent finds it; where it was not told to begin it has ended by itself.
  save(state, frame.folder, {});
  standing.begin(frame.rlimits.file);
  return true;
}

/** A port of its own; where none is free those of places that stand ready are. */
async function portOf({ address, ports, standing }: AgentContext): Promise<number> {
  try {
    return await freePort(address, ports);
  } catch {
    await standing.clear();
    return freePort(address, ports);
  }
}

/** Makes all of it anew. */
async function startKeeper(starting: Starting): Promise<void> {
  const { context, state, frame } = starting;
  const { folder, account } = frame;
  prepareFolder(folder, account);
  // Given back with the rest, whatever goes wrong from here on.
  state.port = state.work.kind === 'server' ? await portOf(context) : null;
  writeWork(starting);
  const keeper = await spawnKeeper(frame, join(context.folder, 'bin'));
  save(state, folder, { keeper: keeper.pid, keeperStart: startTime(keeper.pid), log: freshState(state.work).log });
  keeper.begin(frame.rlimits.file);
}

/** Seconds since this machine was started: a clock that nobody sets. */
export const upSeconds = (): number => uptime();

/** A worker's keeper ends it when the machine has been up for so many seconds: an agent that is cut off can't keep it alive. */
export function writeLease(folder: string, until: number): void {
  const [fresh, file] = [join(folder, 'lease.new'), join(folder, 'lease')];
  try {
    writeFileSync(fresh, `${Math.floor(until)}\n`, { mode: 0o644 });
    renameSync(fresh, file);
  } catch (error) {
    // A full disk has no room for another file, but for the same one there is.
    if (!existsSync(file)) throw error;
    const open = openSync(file, 'r+');
    try {
      writeSync(open, `${Math.floor(until)}\n`, 0);
    } finally {
      closeSync(open);
    }
  }
}

/** Whether its keeper ended it because its lease was over. */
export const leaseOver = (folder: string): boolean => existsSync(join(folder, 'lease-over'));

/** Whether its keeper ended it because what ties its network had ended. */
export const networkOver = (folder: string): boolean => existsSync(join(folder, 'network-over'));

/**
 * What keeps an instance, and what ties its network, is the last that the kernel ends when memory runs out in its group: they take little, and
 * without them the program is alive and out of reach. Only root may say so.
 */
export function protectHelpers(state: InstanceState, folder: string): void {
  if (process.getuid?.() !== 0) return;
  for (const pid of [state.keeper, pastaOf(folder)])
    try {
      if (pid !== null) writeFileSync(`/proc/${pid}/oom_score_adj`, '-900');
    } catch {
      // It has ended, which is seen elsewhere.
    }
}

/** Exit status, or null while its keeper lives; a keeper that was killed counts as 137. */
export function exitOf(state: InstanceState, folder: string): number | null {
  const written = join(folder, 'exit');
  if (existsSync(written)) return Number(readFileSync(written, 'utf8').trim());
  const alive = state.keeper !== null && state.keeperStart !== null && startTime(state.keeper) === state.keeperStart;
  return alive ? null : 137;
}

export function killKeeper(state: InstanceState): void {
  if (state.keeper !== null && startTime(state.keeper) === state.keeperStart) signal(state.keeper, 'SIGKILL');
}

/** Ends what a keeper left behind, or all of an instance that no agent watches, and removes its folder. */
export async function endRemains(agentFolder: string, state: InstanceState, limits: LimitsWay): Promise<void> {
  const folder = folderOf(agentFolder, state.work.id);
  killKeeper(state);
  const pasta = pastaOf(folder);
  if (pasta !== null) signal(pasta, 'SIGKILL');
  await groupOf(limits, state.work.id).remove();
  // Out of the way at once; how long its removal takes is nothing to whoever waits for its end.
  void discard(agentFolder, folder);
  if (state.port !== null) givePort(state.port);
}

/** Ends every instance that an agent which is gone has left in its folder. */
export async function endLeftInstances(agentFolder: string): Promise<void> {
  const live = join(agentFolder, 'live');
  for (const name of existsSync(live) ? readdirSync(live) : []) {
    try {
      await endRemains(agentFolder, readState(join(live, name)), findLimits());
    } catch {
      void discard(agentFolder, join(live, name));
    }
  }
}
