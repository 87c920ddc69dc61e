/**
 * The keeper of an instance: a process of its own that outlives the agent, and what is written down of it.
 *
 * The instance's folder holds all that a restart needs: `state.json` (what it is, its port, its keeper by id and start time, how far
 * its log was sent), `log.N`, `lease` (workers), `exit` when it has ended, `lease-over` when its lease ended it.
 */
import { spawn } from 'node:child_process';
import {
  closeSync,
  existsSync,
  fchownSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  writeFileSync,
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
import { besideCommand, chainCall, networkOf, prepareFolder, writeChain } from '../sandbox/chain.js';
import { findLimits, type LimitsWay } from '../sandbox/host.js';
import { groupOf, instanceLimits, type Limits, makeGroup } from '../sandbox/limits.js';
import { nameOf, signal, startTime } from '../sandbox/processes.js';
import { segmentBytes, segmentsKept } from './logtail.js';
import { namedReach } from '../settings.js';
import { volumeBinds } from '../volumes/binds.js';
import { freePort, givePort } from './ports.js';

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
  return state;
}

export function save(state: InstanceState, folder: string, change: Partial<InstanceState>): void {
  Object.assign(state, change);
  writeKept(join(folder, 'state.json'), state);
}

/** What an instance may take: as its part says, else as every instance may. */
export const limitsOf = ({ memory, cpu }: Pick<InstanceWork, 'memory' | 'cpu'>): Limits => ({
  ...instanceLimits,
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
  const account = host.accounts.live;
  const paths = await Promise.all(
    work.layers.map((digest) =>
      untilDone(
        () => layers.output(digest, () => client.getStream(`/api/agent/blobs/${digest}`), given),
        () => context.stopped() || given.aborted,
      ),
    ),
  );
  clearPlace(context.folder, folder);
  prepareFolder(folder, account);
  makeHands(folder, account);
  const port = work.kind === 'server' ? await freePort(context.address, context.ports) : null;
  // Given back with the rest, whatever goes wrong from here on.
  state.port = port;
  const named = await namedReach(work.reach ?? []);
  const limits = limitsOf(work);
  const group = makeGroup(host.limits, work.id, limits);
  writeLease(folder, context.leaseUntil());
  const chain = {
    layers: paths,
    writable: false,
    variables: { ...work.variables, ...(port === null ? {} : { PORT: String(port) }) },
    network: { open: true, listen: port === null ? null : { address: context.address, port }, ...named },
    binds: [{ from: handsOf(folder), to: handsInside, fixed: true as const }, ...volumeBinds(context, work.volumes)],
    tmp: limits.memory,
    command: besideCommand(work.start),
  };
  const network = networkOf(chain, host.network);
  const { memory, processes } = limits;
  const rlimits =
    host.limits === 'none' ? { file: memory, processes, memory } : { file: memory, processes: null, memory: null };
  const frame = {
    folder,
    account,
    network,
    writable: false,
    watchLease: work.kind === 'worker',
    group,
    tied: false,
    runs: 'go' as const,
    rlimits,
  };
  const bin = join(context.folder, 'bin');
  writeChain(frame, chain, bin);
  const call = chainCall(frame, bin);
  const log = openSync(join(folder, 'log.0'), 'a', 0o600);
  // The keeper writes it, as the account of instances.
  if (account) fchownSync(log, account.uid, account.gid);
  const env = { ...call.env, TSUNAGI_LOG: `${segmentBytes} ${segmentsKept}` };
  // A process of its own: it goes on when the agent ends.
  const child = spawn(call.file, call.args, { env, cwd: '/', detached: true, stdio: ['ignore', log, log] });
  closeSync(log);
  await new Promise<void>((resolve, reject) => child.once('spawn', resolve).once('error', reject));
  child.unref();
  save(state, folder, {
    port,
    keeper: child.pid ?? null,
    keeperStart: startTime(child.pid as number),
    log: freshState(work).log,
  });
}

/** Seconds since this machine was started: a clock that nobody sets. */
export const upSeconds = (): number => uptime();

/** A worker's keeper ends it when the machine has been up for so many seconds: an agent that is cut off can't keep it alive. */
export function writeLease(folder: string, until: number): void {
  writeFileSync(join(folder, 'lease.new'), `${Math.floor(until)}\n`, { mode: 0o644 });
  renameSync(join(folder, 'lease.new'), join(folder, 'lease'));
}

/** Whether its keeper ended it because its lease was over. */
export const leaseOver = (folder: string): boolean => existsSync(join(folder, 'lease-over'));

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
  const file = join(folder, 'pasta.pid');
  if (existsSync(file)) {
    const pid = Number(readFileSync(file, 'utf8').trim());
    if (nameOf(pid).startsWith('pas')) signal(pid, 'SIGKILL');
  }
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
