/**
 * Chains for attempts. To make one (rights, namespaces, limits, the sandbox and the runner in it) takes longer than most of what
 * follows, and little of it depends on the work: for work that needs no network and no cache some stand ready.
 */
import { randomUUID } from 'node:crypto';
import { closeSync, constants, openSync, writeFileSync } from 'node:fs';
import { Socket } from 'node:net';
import { join } from 'node:path';
import { type Static, Type } from '@sinclair/typebox';
import { removeTree } from '../files/remove.js';
import {
  chainEnvironment,
  chainWords,
  lowerOf,
  networkOf,
  prepareFolder,
  runnerCommand,
  runnerFields,
  type RunnerTask,
  writeChain,
  writeReady,
} from './chain.js';
import type { Account, Host } from './host.js';
import type { Group, Limits } from './limits.js';
import { openPlaces, pipeNames } from './places.js';
import { signal, startTime } from './processes.js';
import { openStarter, type Started } from './starter.js';
import type { ChainFrame, ChainNetwork, ChainWork } from './work.js';

/** What comes out of a chain, through this process, which counts it: work gets no file of the machine to write to. */
export interface ChainStreams {
  /** What the commands print. */
  output: Socket;
  /** What the chain itself says. */
  errors: Socket;
  /** What happens inside. */
  control: Socket;
  outputs: Socket;
  results: Socket;
}

export interface HeldChain {
  folder: string;
  streams: ChainStreams;
  group: Group;
  /** Whether none of it runs any more. */
  over(): boolean;
  /** Whether what it was started by has ended before it, and took it along. */
  orphaned(): boolean;
  /** Resolves when all streams have ended: nothing of it is left that could say anything. */
  closed: Promise<void>;
  /** Ends all of it at once. */
  kill(): void;
  /** Ends what is left of it, and removes its folder. */
  clear(): void;
}

/** What stands beside an attempt's work for the next agent, should this one die. */
export const AttemptMark = Type.Object({
  attempt: Type.String(),
  /** Its group, and what was counted in it before. */
  place: Type.String(),
  before: Type.Object({ outOfMemory: Type.Integer(), refusedProcesses: Type.Integer() }),
});
export type AttemptMark = Static<typeof AttemptMark>;

export interface AttemptChain {
  attempt: string;
  /** The command is the runner. */
  chain: Omit<ChainWork, 'command' | 'variables' | 'writable'>;
  /** Whose work it is; default: that of attempts. */
  account?: Account | null;
  /** Of its group; default: those of attempts. */
  limits?: Limits;
  task: RunnerTask;
}

export interface ReadyChains {
  /** Lets a chain go with this work. Throws `setup_failed` where none can be made. */
  begin(work: AttemptChain): Promise<HeldChain>;
  close(): Promise<void>;
}

interface StandingChain extends HeldChain {
  begin(work: AttemptChain): void;
}

/** Milliseconds after which the next one is made: the work that was just begun comes first. */
const refillMs = 20;

/** `folder` is the agent's; `count` chains stand ready. */
export function openReadyChains(folder: string, host: Host, count: number): ReadyChains {
  const bin = join(folder, 'bin');
  const { disk, processes, memory } = host.attempt;
  const rlimits =
    host.limits === 'none' ? { file: disk, processes, memory } : { file: disk, processes: null, memory: null };
  const starter = openStarter(bin, chainEnvironment(rlimits));
  const places = openPlaces(join(folder, 'pipes'), host, count * 2);
  /** Null: it could not be made, which is said to whoever needs one then. */
  const standing: Promise<StandingChain | null>[] = [];
  let closed = false;
  writeReady(bin, host.attempt.tmp);

  /** With its work where that is known: what it needs for itself is written down before it starts. */
  const make = async (network: ChainNetwork, known: AttemptChain | null): Promise<StandingChain> => {
    const own = join(folder, 'work', randomUUID());
    const account = known?.account === undefined ? host.accounts.work : known.account;
    prepareFolder(own, account);
    const place = await places.take(account, known?.limits);
    const { group, pipes } = place;
    const before = group.forget();
    const frame: ChainFrame = {
      folder: own,
      account,
      network,
      writable: true,
      watchLease: false,
      group,
      tied: true,
      runs: known ? 'told' : 'ready',
      rlimits,
    };
    const open = (name: string, flags: number) => openSync(join(pipes, name), flags | constants.O_NONBLOCK);
    const release = () => void places.giveBack(place).then(() => removeTree(own));
    try {
      const command = runnerCommand('now');
      if (known) writeChain(frame, { ...known.chain, writable: true, variables: {}, command }, bin);
    } catch (error) {
      release();
      throw error;
    }
    // Both ends, so that nobody waits for the other; a pipe to read from has this side alone, or its end would not be seen.
    let input: number | null = open('in', constants.O_RDWR);
    let writing: Socket | null = null;
    const closeInput = () => {
      if (input !== null) closeSync(input);
      input = null;
      // What nobody has read is not for the next one that gets this pipe.
      writing?.destroy();
    };
    const [, ...outward] = pipeNames;
    const reading = outward.map((name) => open(name, constants.O_RDONLY));
    let started: Started;
    try {
      started = await starter.start({ folder: own, pipes, groups: group.entries, words: chainWords(frame, bin) });
    } catch (error) {
      closeInput();
      for (const fd of reading) closeSync(fd);
      release();
      throw error;
    }
    const { pid, orphaned } = started;
    const since = startTime(pid);
    const sockets = reading.map((fd) => new Socket({ fd, readable: true, writable: false }));
    // Who takes it sees its end; a broken pipe says no more than that.
    for (const socket of sockets) socket.on('error', () => {});
    const [output, errors, control, outputs, results] = sockets as [Socket, Socket, Socket, Socket, Socket];
    const over = () => since === null || startTime(pid) !== since;
    const kill = () => {
      group.kill();
      if (!over()) signal(pid, 'SIGKILL');
    };
    return {
      folder: own,
      streams: { output, errors, control, outputs, results },
      group,
      begin({ attempt, chain, task }) {
        const mark: AttemptMark = { attempt, place: place.id, before };
        writeFileSync(join(own, 'attempt'), JSON.stringify(mark), { mode: 0o600 });
        const lower = known ? '' : `${lowerOf(own, chain.layers, bin)}\0`;
        // As much as there is room for goes at once, the rest as it is read.
        writing = new Socket({ fd: input as number, readable: false, writable: true });
        input = null;
        writing.on('error', () => {});
        writing.end(lower + runnerFields(task));
      },
      over,
      orphaned,
      closed: Promise.all(sockets.map((socket) => new Promise((resolve) => socket.once('close', resolve)))).then(
        () => {},
      ),
      kill,
      clear() {
        // Where there are groups, its place is emptied.
        if (host.limits === 'none') kill();
        closeInput();
        for (const socket of sockets) socket.destroy();
        // Swept at the next start when this does not come to its end.
        release();
      },
    };
  };
  const standReady = (): Promise<StandingChain | null> => make('none', null).catch(() => null);
  const refill = () => {
    while (!closed && standing.length < count) standing.push(standReady());
  };
  refill();
  const nextStanding = async (): Promise<StandingChain> => {
    setTimeout(refill, refillMs).unref();
    for (let next = standing.shift(); next; next = standing.shift()) {
      const chain = await next;
      if (chain && !chain.over()) return chain;
      chain?.clear();
    }
    return make('none', null);
  };
  return {
    async begin(work) {
      const network = networkOf(work.chain, host.network);
      const plain = network === 'none' && work.chain.binds.length === 0 && work.limits === undefined;
      const chain = plain ? await nextStanding() : await make(network, work);
      chain.begin(work);
      return chain;
    },
    async close() {
      closed = true;
      for (const one of standing.splice(0)) (await one)?.clear();
      starter.close();
      await places.close();
    },
  };
}
