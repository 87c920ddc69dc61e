/**
 * Chains for attempts. Making the outer part of one (rights, namespaces, limits) takes longer than most of what follows, and
 * does not depend on the work: for work without a network some stand ready.
 */
import { type ChildProcess, spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { join } from 'node:path';
import { chainCall, prepareFolder, writeChain } from './chain.js';
import type { ChainFrame, ChainNetwork, ChainWork } from './work.js';
import type { Host } from './host.js';
import { removeTree } from '../files/remove.js';
import { attemptLimits, type Group, makeGroup } from './limits.js';

export interface HeldChain {
  folder: string;
  child: ChildProcess;
  /** Says what runs, and lets it go. */
  begin(work: ChainWork): void;
  group: Group;
  /** Ends what is left of it, and removes its folder. */
  clear(): void;
}

export interface ReadyChains {
  take(network: ChainNetwork): HeldChain;
  close(): void;
}

/** Milliseconds after which the next one is made: the work that was just begun comes first. */
const refillMs = 20;

/** `folder` holds one folder for each chain; `count` stand ready. */
export function openReadyChains(folder: string, bin: string, host: Host, count: number): ReadyChains {
  const standing: HeldChain[] = [];
  let closed = false;

  const make = (network: ChainNetwork): HeldChain => {
    const id = randomUUID();
    const own = join(folder, id);
    const account = host.accounts.work;
    prepareFolder(own, account);
    const group = makeGroup(host.limits, id, attemptLimits(host.attempt));
    const { disk, processes, memory } = host.attempt;
    const rlimits =
      host.limits === 'none' ? { file: disk, processes, memory } : { file: disk, processes: null, memory: null };
    const frame: ChainFrame = {
      folder: own,
      account,
      network,
      writable: true,
      watchLease: false,
      group,
      tied: true,
      held: true,
      rlimits,
    };
    const call = chainCall(frame, bin);
    // What comes out of it comes through this process, which counts it: work gets no file of the machine to write to.
    const child = spawn(call.file, call.args, {
      env: call.env,
      cwd: '/',
      stdio: ['pipe', 'pipe', 'pipe', 'pipe', 'pipe', 'pipe'],
    });
    // Who takes it sees its end; a broken pipe says no more than that.
    child.on('error', () => {});
    for (const stream of child.stdio) stream?.on('error', () => {});
    return {
      folder: own,
      child,
      begin(work) {
        writeChain(frame, work, bin);
        child.stdin?.end('go\n');
      },
      group,
      clear() {
        group.kill();
        child.kill('SIGKILL');
        for (const stream of child.stdio) stream?.destroy();
        // Swept at the next start when this does not come to its end.
        void group.remove().then(() => removeTree(own));
      },
    };
  };
  const alive = ({ child }: HeldChain) =>
    child.pid !== undefined && child.exitCode === null && child.signalCode === null;
  const refill = () => {
    if (closed) return;
    for (const dead of standing.filter((one) => !alive(one))) standing.splice(standing.indexOf(dead), 1)[0]?.clear();
    while (standing.length < count) standing.push(make('none'));
  };
  refill();
  return {
    take(network) {
      if (network !== 'none') return make(network);
      setTimeout(refill, refillMs).unref();
      for (let next = standing.shift(); next; next = standing.shift()) {
        if (alive(next)) return next;
        next.clear();
      }
      return make('none');
    },
    close() {
      closed = true;
      for (const one of standing.splice(0)) one.clear();
    },
  };
}
