/**
 * One instance: started with a keeper of its own, watched until it ends, and taken up again by a restarted agent.
 *
 * Its folder holds all that a restart needs: `state.json` (what it is, its port, its keeper by id and start time), `log`,
 * `exit` when it has ended.
 */
import { spawn } from 'node:child_process';
import { closeSync, existsSync, openSync, readdirSync, readFileSync, readSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { diagnoseInstance } from '../core/diagnose/instance.js';
import { CodedError, issue, type Issue } from '../core/errors.js';
import { sizeText } from '../core/sizes.js';
import { untilDone } from '../wire/client.js';
import type { InstanceWork } from '../wire/work.js';
import type { AgentContext } from './context.js';
import { makeLogSender } from './log.js';
import { maskerOf, maskIssue } from './masked.js';
import { seenFiles } from './seen.js';
import { chainCall, networkOf, prepareFolder, writeChain } from './sandbox/chain.js';
import { findLimits, type LimitsWay } from './sandbox/host.js';
import { groupOf, instanceLimits, makeGroup } from './sandbox/limits.js';
import { firstProcess, listeningPorts, onlyLoopback, nameOf, programOf, signal, startTime } from './sandbox/processes.js';

export interface InstanceState {
  work: InstanceWork;
  port: number | null;
  keeper: number | null;
  keeperStart: string | null;
  ready: boolean;
  /** The agent was told to end it. */
  ending: boolean;
}

export interface RunningInstance {
  id: string;
  fence: string;
  kind: 'server' | 'worker';
  folder: string;
  /** TERM, then KILL after the drain limit; reports when it has ended. */
  end(): void;
  /** Ends it without a report. */
  drop(): void;
  done: Promise<void>;
}

const portRange = { from: 20_000, to: 31_999 };
const taken = new Set<number>();

/** A port that nobody listens on; they are handed out in turn, so that one that was just freed is not used at once. */
let nextPort = portRange.from + Math.floor(Math.random() * (portRange.to - portRange.from));
async function freePort(address: string): Promise<number> {
  for (let tries = 0; tries < 500; tries++) {
    nextPort = nextPort >= portRange.to ? portRange.from : nextPort + 1;
    const port = nextPort;
    if (taken.has(port)) continue;
    const free = await new Promise<boolean>((resolve) => {
      const server = createServer();
      server.once('error', () => resolve(false));
      server.listen({ host: address, port, exclusive: true }, () => server.close(() => resolve(true)));
    });
    if (!free) continue;
    taken.add(port);
    return port;
  }
  throw new CodedError('instance_setup', { part: 'the instance', detail: 'no port is free' });
}

export function startInstance(context: AgentContext, work: InstanceWork): RunningInstance {
  const folder = join(context.folder, 'live', work.id);
  return watch(context, { work, port: null, keeper: null, keeperStart: null, ready: false, ending: false }, folder);
}

/** Takes an instance of an earlier agent up again, by its folder; null when there is nothing to take up. */
export function adoptInstance(context: AgentContext, folder: string): RunningInstance | null {
  try {
    const state = JSON.parse(readFileSync(join(folder, 'state.json'), 'utf8')) as InstanceState;
    if (state.keeper === null) throw new Error('it was never started');
    if (state.port !== null) taken.add(state.port);
    return watch(context, state, folder);
  } catch {
    rmSync(folder, { recursive: true, force: true });
    return null;
  }
}

function watch(context: AgentContext, state: InstanceState, folder: string): RunningInstance {
  const { work } = state;
  const wishes = { end: state.ending, drop: false };
  const done = live(context, state, folder, wishes).catch((error: Error) => {
    if (!context.stopped()) context.log.error({ instance: work.id, error: String(error.stack) }, 'an instance was given up');
  });
  return {
    id: work.id,
    fence: work.fence,
    kind: work.kind,
    folder,
    end() {
      wishes.end = true;
    },
    drop() {
      wishes.end = true;
      wishes.drop = true;
    },
    done,
  };
}

/** Milliseconds for which a program may listen on other ports alone before that is taken for its mistake. */
const elsewhereMs = 8_000;

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

async function live(context: AgentContext, state: InstanceState, folder: string, wishes: { end: boolean; drop: boolean }): Promise<void> {
  const { work } = state;
  const report = (body: object) =>
    wishes.drop
      ? Promise.resolve()
      : untilDone(
          () => context.client.post(`/api/agent/instances/${work.id}/report`, { fence: work.fence, port: state.port, exit: null, issue: null, ...body }),
          context.stopped,
        ).catch((error) => {
          if (!(error instanceof CodedError)) throw error;
          wishes.drop = true;
          wishes.end = true;
        });
  try {
    if (state.keeper === null && !wishes.end) await launch(context, state, folder);
  } catch (error) {
    const detail = error instanceof CodedError ? error.message : (error as Error).message;
    await report({ state: 'failed', issue: issue('instance_setup', { part: work.part, detail: detail.slice(0, 300) }) });
    return clear(context, state, folder);
  }
  const sender = makeLogSender(context.client, `/api/agent/instances/${work.id}/log`, work.fence, work.logBytes, () => context.stopped() || wishes.drop);
  const masker = maskerOf(work);
  // Masked bytes are others than the file's: a restarted agent masks it again from its beginning and leaves out what was sent.
  let skip = work.secret.length ? work.logBytes : 0;
  const show = (bytes: Buffer): boolean => {
    const rest = bytes.subarray(Math.min(skip, bytes.length));
    skip -= bytes.length - rest.length;
    return sender.write(rest, 0);
  };
  const tail = makeTail(join(folder, 'log'), work.secret.length ? 0 : work.logBytes, (bytes) => show(masker.take(bytes)));
  const began = Date.now();
  let termAt: number | null = null;
  let answer: string | null = null;
  let elsewhere: number | null = null;
  let wait = 10;
  for (;;) {
    tail();
    const exit = exitOf(state, folder);
    if (exit !== null || state.keeper === null) {
      tail();
      show(masker.rest());
      await sender.flush();
      const why = wishes.end || state.ending ? null : explain(context, work, state, folder, exit, [], null, Date.now() - began);
      await report({ state: why ? 'failed' : 'ended', exit, issue: why });
      return clear(context, state, folder);
    }
    if (context.stopped()) return;
    const first = firstProcess(folder);
    if (wishes.end) {
      if (termAt === null) {
        termAt = Date.now();
        save(state, folder, { ending: true });
        const program = first === null ? null : programOf(first);
        if (program !== null) signal(program, 'SIGTERM');
      }
      if (Date.now() - termAt > (wishes.drop ? 1_000 : work.drainMs)) killKeeper(state);
    } else if (!state.ready && first !== null) {
      const check = await readiness(context, state, first);
      answer = check.answer ?? answer;
      if (check.ready) {
        save(state, folder, { ready: true });
        await report({ state: 'ready' });
      } else {
        const away = check.listening.length > 0 && !check.listening.includes(state.port ?? 0);
        elsewhere = away ? (elsewhere ?? Date.now()) : null;
      }
      if (!state.ready && (Date.now() - began > work.readyMs || (elsewhere !== null && Date.now() - elsewhere > elsewhereMs))) {
        const why = explain(context, work, state, folder, null, check.listening, answer, Date.now() - began);
        killKeeper(state);
        await sender.flush();
        await report({ state: 'failed', issue: why });
        wishes.drop = true;
        wishes.end = true;
      }
    }
    wait = state.ready && !wishes.end ? Math.min(250, wait * 1.3) : Math.min(50, wait * 1.2);
    await pause(wait);
  }
}

async function launch(context: AgentContext, state: InstanceState, folder: string): Promise<void> {
  const { work } = state;
  const { host, layers, client } = context;
  const account = host.accounts.live;
  const paths = await Promise.all(
    work.layers.map((digest) => untilDone(() => layers.output(digest, () => client.getStream(`/api/agent/blobs/${digest}`)), context.stopped)),
  );
  rmSync(folder, { recursive: true, force: true });
  prepareFolder(folder, account);
  const port = work.kind === 'server' ? await freePort(context.address) : null;
  const group = makeGroup(host.limits, work.id, instanceLimits);
  writeLease(folder, Date.now() + 60_000);
  const chain = {
    layers: paths,
    writable: false,
    variables: { ...work.variables, ...(port === null ? {} : { PORT: String(port) }) },
    network: { open: true, listen: port === null ? null : { address: context.address, port }, reach: [], through: [] },
    binds: [],
    tmp: null,
    command: ['bash', '-euo', 'pipefail', '-c', work.start],
  };
  const network = networkOf(chain, host.network);
  const frame = { folder, account, network, writable: false, watchLease: work.kind === 'worker', group, tied: false, held: false };
  const bin = join(context.folder, 'bin');
  writeChain(frame, chain, bin);
  const call = chainCall(frame, bin);
  const log = openSync(join(folder, 'log'), 'a', 0o600);
  // A process of its own: it goes on when the agent ends.
  const child = spawn(call.file, call.args, { env: call.env, cwd: '/', detached: true, stdio: ['ignore', log, log] });
  closeSync(log);
  await new Promise<void>((resolve, reject) => child.once('spawn', resolve).once('error', reject));
  child.unref();
  save(state, folder, { port, keeper: child.pid ?? null, keeperStart: startTime(child.pid as number) });
}

function save(state: InstanceState, folder: string, change: Partial<InstanceState>): void {
  Object.assign(state, change);
  writeFileSync(join(folder, 'state.new'), JSON.stringify(state), { mode: 0o600 });
  renameSync(join(folder, 'state.new'), join(folder, 'state.json'));
}

/** A worker's keeper ends it when this time has passed: an agent that is cut off can't keep it alive. */
export function writeLease(folder: string, until: number): void {
  writeFileSync(join(folder, 'lease.new'), `${Math.ceil(until / 1000)}\n`, { mode: 0o644 });
  renameSync(join(folder, 'lease.new'), join(folder, 'lease'));
}

/** Exit status, or null while its keeper lives; a keeper that was killed counts as 137. */
function exitOf(state: InstanceState, folder: string): number | null {
  const written = join(folder, 'exit');
  if (existsSync(written)) return Number(readFileSync(written, 'utf8').trim());
  const alive = state.keeper !== null && state.keeperStart !== null && startTime(state.keeper) === state.keeperStart;
  return alive ? null : 137;
}

function killKeeper(state: InstanceState): void {
  if (state.keeper !== null && startTime(state.keeper) === state.keeperStart) signal(state.keeper, 'SIGKILL');
}

async function clear(context: AgentContext, state: InstanceState, folder: string): Promise<void> {
  await endRemains(folder, state, context.host.limits);
  if (state.port !== null) taken.delete(state.port);
}

/** Ends what a keeper left behind, or all of an instance that no agent watches, and removes its folder. */
async function endRemains(folder: string, state: InstanceState, limits: LimitsWay): Promise<void> {
  killKeeper(state);
  const file = join(folder, 'pasta.pid');
  if (existsSync(file)) {
    const pid = Number(readFileSync(file, 'utf8').trim());
    if (nameOf(pid).startsWith('pas')) signal(pid, 'SIGKILL');
  }
  await groupOf(limits, state.work.id).remove();
  rmSync(folder, { recursive: true, force: true });
}

/** Ends every instance that an agent which is gone has left in its folder. */
export async function endLeftInstances(agentFolder: string): Promise<void> {
  const live = join(agentFolder, 'live');
  for (const name of existsSync(live) ? readdirSync(live) : []) {
    try {
      await endRemains(join(live, name), JSON.parse(readFileSync(join(live, name, 'state.json'), 'utf8')) as InstanceState, findLimits());
    } catch {
      rmSync(join(live, name), { recursive: true, force: true });
    }
  }
}

async function readiness(context: AgentContext, state: InstanceState, first: number): Promise<{ ready: boolean; listening: number[]; answer: string | null }> {
  const { work, port } = state;
  if (work.kind === 'worker' || port === null) return { ready: programOf(first) !== null, listening: [], answer: null };
  const listening = listeningPorts(first);
  if (!listening.includes(port)) return { ready: false, listening, answer: null };
  if (work.ready === null) return { ready: true, listening, answer: null };
  const status = await ask(context.address, port, work.ready);
  return { ready: status !== null && status >= 200 && status < 400, listening, answer: status === null ? null : String(status) };
}

function ask(host: string, port: number, path: string): Promise<number | null> {
  return new Promise((resolve) => {
    const call = request({ host, port, path, timeout: 2_000, agent: false, headers: { connection: 'close' } }, (answer) => {
      answer.resume();
      resolve(answer.statusCode ?? null);
    });
    call.on('timeout', () => call.destroy());
    call.on('error', () => resolve(null));
    call.end();
  });
}

function explain(
  context: AgentContext,
  work: InstanceWork,
  state: InstanceState,
  folder: string,
  exit: number | null,
  listening: number[],
  answer: string | null,
  waitedMs: number,
): Issue {
  return maskIssue(
    diagnoseInstance({
      part: work.part,
      kind: work.kind,
      exit,
      port: state.port,
      listening,
      ready: work.ready,
      answer,
      waitedMs,
      lastLines: lastLines(join(folder, 'log')),
      oneAddress: state.port === null ? null : onlyLoopback(firstProcess(folder), state.port),
      outOfMemory: groupOf(context.host.limits, work.id).facts().outOfMemory > 0 ? sizeText(instanceLimits.memory) : null,
      program: {
        command: work.start,
        variables: Object.keys({ ...work.variables, PORT: '' }),
        tools: context.tools,
        files: seenFiles(work.layers.map((digest) => context.layers.at(digest))),
        network: true,
      },
    }),
    maskerOf(work),
  );
}

function lastLines(path: string): string[] {
  try {
    const size = statSync(path).size;
    const file = openSync(path, 'r');
    const bytes = Buffer.alloc(Math.min(size, 8192));
    readSync(file, bytes, 0, bytes.length, size - bytes.length);
    closeSync(file);
    return bytes.toString('utf8').replace(/\0/g, '').split('\n').slice(-40);
  } catch {
    return [];
  }
}

/** Reads what was added to a file since the last call. */
function makeTail(path: string, from: number, take: (bytes: Buffer) => boolean): () => void {
  let position = from;
  const buffer = Buffer.alloc(256 * 1024);
  return () => {
    if (!existsSync(path)) return;
    const file = openSync(path, 'r');
    try {
      for (;;) {
        const read = readSync(file, buffer, 0, buffer.length, position);
        if (read === 0) return;
        position += read;
        if (!take(Buffer.from(buffer.subarray(0, read)))) return;
      }
    } finally {
      closeSync(file);
    }
  };
}
