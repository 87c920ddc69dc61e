/** One attempt, from its claim to its last report. The first cause of an end wins and is recorded once. */
import type { ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { createReadStream, mkdirSync } from 'node:fs';
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { CodedError, issue } from '../core/errors.js';
import type { AttemptReport, AttemptWork } from '../wire/work.js';
import { untilDone } from '../wire/client.js';
import type { DatabaseFields, Databases } from '../resources/postgres.js';
import type { AgentContext } from './context.js';
import { boundLog, type KeptLog } from './keptlog.js';
import { makeLogSender } from './log.js';
import { maskEnded, maskerOf, maskLog } from './masked.js';
import { operatorReach } from './settings.js';
import { watchDisk } from './disk.js';
import { networkOf, runnerText } from './sandbox/chain.js';
import type { HeldChain } from './sandbox/ready.js';
import { descendantsOf, firstProcess, programOf, signal } from './sandbox/processes.js';
import { makeTail, seenFiles } from './seen.js';
import { type Cause, type Ended, judge, readControl, type Told } from './outcome.js';
import { splitSections } from './sections.js';

/** Between TERM and KILL, in milliseconds. */
const graceMs = 5_000;

export interface RunningAttempt {
  id: string;
  fence: string;
  /** Ends the work and reports it as stopped. */
  stop(): void;
  /** Ends the work without a report: it is someone else's. */
  drop(): void;
  done: Promise<void>;
}

/** What an attempt holds: its chain, and what is to be given back in reverse order. */
interface Held {
  chain: HeldChain | null;
  release: (() => Promise<void>)[];
}

export function startAttempt(context: AgentContext, work: AttemptWork): RunningAttempt {
  const abort = new AbortController();
  let dropped = false;
  const done = perform(context, work, abort.signal, () => dropped).catch((error: Error) => {
    if (!context.stopped()) context.log.error({ attempt: work.id, error: String(error.stack) }, 'an attempt was given up');
  });
  return {
    id: work.id,
    fence: work.fence,
    stop: () => abort.abort('stop'),
    drop() {
      dropped = true;
      abort.abort('drop');
    },
    done,
  };
}

async function perform(context: AgentContext, work: AttemptWork, abort: AbortSignal, dropped: () => boolean): Promise<void> {
  const { client } = context;
  const path = `/api/agent/attempts/${work.id}`;
  const report = (happenings: AttemptReport['happenings']) =>
    dropped() ? Promise.resolve() : untilDone(() => client.post(`${path}/report`, { fence: work.fence, happenings }), context.stopped).catch(ignoreOld);
  const sender = makeLogSender(client, `${path}/log`, work.fence, work.logBytes, () => context.stopped() || dropped());
  mkdirSync(join(context.folder, 'work', work.id), { recursive: true });
  const masker = maskerOf(work);
  const log = maskLog(boundLog(sender, join(context.folder, 'work', work.id), context.logBounds), masker);
  const held: Held = { chain: null, release: [] };
  // Reports go out one after another; what happens meanwhile goes with the next.
  let waiting: AttemptReport['happenings'] = [];
  let reports: Promise<unknown> = Promise.resolve();
  const happens = (happening: AttemptReport['happenings'][number]) => {
    waiting.push(happening);
    reports = reports.then(async () => {
      if (happening.what === 'command-ended' && happening.exit === 0 && happening.position === work.commands.length - 1) return;
      const batch = waiting;
      waiting = [];
      if (batch.length) await report(batch);
    });
  };
  let ended: Ended;
  try {
    ended = await runChain(context, work, held, abort, log, happens);
  } catch (error) {
    const why = error instanceof CodedError ? error.issue : issue('setup_failed', { detail: (error as Error).message.slice(0, 500) });
    ended = { what: 'ended', state: abort.aborted ? 'stopped' : 'failed', issue: why as never, output: null, tests: null };
  }
  try {
    await log.flush();
    await reports;
    if (!dropped() && ended.state === 'passed' && ended.output && held.chain) await upload(context, join(held.chain.folder, 'outputs.tar'), ended.output);
    await report([...waiting, maskEnded(ended, masker)]);
  } finally {
    held.chain?.clear();
    void rm(join(context.folder, 'work', work.id), { recursive: true, force: true });
    for (const release of held.release.reverse())
      await release().catch((error: Error) => context.log.warn({ attempt: work.id, error: String(error) }, 'something of an attempt was left behind'));
  }
}

const ignoreOld = (error: unknown) => {
  if (!(error instanceof CodedError)) throw error;
};

async function upload(context: AgentContext, tar: string, output: { digest: string; size: number }): Promise<void> {
  await untilDone(() => context.client.putStream(`/api/agent/blobs/${output.digest}`, createReadStream(tar), output.size), context.stopped).catch(ignoreOld);
  await context.layers.keep(output.digest, tar);
}

async function runChain(
  context: AgentContext,
  work: AttemptWork,
  held: Held,
  abort: AbortSignal,
  log: KeptLog,
  happens: (one: AttemptReport['happenings'][number]) => void,
): Promise<Ended> {
  const { layers, host, client } = context;
  const path = `/api/agent/attempts/${work.id}`;
  // A service that is away for a moment is no failure of the work: what must be fetched is asked for again.
  const given = () => context.stopped() || abort.aborted;
  const { files: needed } = work;
  const files = needed ? await untilDone(() => layers.files(needed.key, () => client.getStream(`${path}/files`)), given) : null;
  const outputs = await Promise.all(
    work.layers.map((digest) => untilDone(() => layers.output(digest, () => client.getStream(`/api/agent/blobs/${digest}`)), given)),
  );
  const mark = randomBytes(12).toString('hex');
  const makes = [...new Set(work.makes)].sort();
  const made = await makeResources(context, work, held);
  const caches = context.caches.take(work.cache.key, work.cache.paths);
  held.release.push(async () => caches.giveBack());
  const open = work.network === 'open';
  const operator = open ? await operatorReach(context.settings) : { reach: [], through: [] };
  const network = { open, listen: null, reach: [...work.reach, ...made.reach, ...operator.reach], through: operator.through };
  const chain = context.chains.take(networkOf({ network }, host.network));
  held.chain = chain;
  if (chain.child.pid === undefined) throw new CodedError('setup_failed', { detail: 'no process could be started' });
  chain.begin({
    layers: [...(files ? [files] : []), ...outputs],
    writable: true,
    variables: { ...(work.network === 'open' ? context.settings : {}), ...work.variables, ...made.variables },
    binds: caches.binds,
    tmp: host.attempt.tmp,
    network,
    command: ['bash', '-c', runnerText(), 'runner', mark, work.junit ?? '', String(makes.length), ...makes, ...work.commands],
  });
  return follow(context, work, chain, abort, log, happens, mark, makes, [...(files ? [files] : []), ...outputs]);
}

/** Makes the attempt's databases and resolves the variables that come from them. */
async function makeResources(
  context: AgentContext,
  work: AttemptWork,
  held: Held,
): Promise<{ variables: Record<string, string>; reach: { port: number; host: string }[] }> {
  const fields: Record<string, DatabaseFields> = {};
  const names = Object.keys(work.resources);
  const { databases } = context;
  if (names.length && !databases) throw new CodedError('setup_failed', { detail: 'this agent has no database server for the resources of tasks' });
  for (const [at, name] of names.entries()) {
    const id = `${work.id}-${work.fence}-${at}`;
    held.release.push(() => (databases as Databases).drop(id));
    fields[name] = await (databases as Databases).make(id, name);
  }
  const value = (reference: string) => {
    const [name = '', field = ''] = reference.split('.');
    return fields[name]?.[field as keyof DatabaseFields] ?? '';
  };
  return {
    variables: Object.fromEntries(Object.entries(work.fromResources).map(([name, { from, then }]) => [name, value(from) + then])),
    reach: names.map((name) => ({ port: (databases as Databases).port, host: name })),
  };
}

async function follow(
  context: AgentContext,
  work: AttemptWork,
  chain: HeldChain,
  abort: AbortSignal,
  log: KeptLog,
  happens: (one: AttemptReport['happenings'][number]) => void,
  mark: string,
  makes: string[],
  layers: readonly string[],
): Promise<Ended> {
  const { child, folder } = chain;
  const tail = makeTail();
  let printing = 0;
  const { attempt: bounds } = context.host;
  let cause: Cause | null = null;
  const end = (why: Cause) => {
    cause ??= why;
    void endTree(child, folder);
  };
  const timer = setTimeout(() => end('timeout'), work.timeoutMs);
  const disk = watchDisk(join(folder, 'u'), bounds.disk, () => end('disk'));
  const stop = () => end('stop');
  abort.addEventListener('abort', stop);
  if (abort.aborted) stop();

  let errors = '';
  child.stderr?.on('data', (chunk: Buffer) => {
    errors = (errors + chunk.toString('utf8')).slice(-1000);
  });
  const told: Told = { exit: null, position: 0, missing: [], full: [], noResults: false, notKept: false, done: false };
  const control = child.stdio[3] as NodeJS.ReadableStream;
  const controlled = readControl(
    control,
    told,
    makes,
    (position) => {
      // The service has put down the first command of a task when it gave it out.
      if (position > 0 || work.kind !== 'task') happens({ what: 'command-started', position, firstLine: log.lines() });
    },
    (position, exit, ms) => happens({ what: 'command-ended', position, exit, ms }),
    () => whole(),
  );
  const output = child.stdout as NonNullable<typeof child.stdout>;
  const sections = splitSections(mark);
  const firstLines: (number | undefined)[] = [];
  let over = () => {};
  // All is told, and all that was printed is here: what is left of the chain ends without being waited for.
  const whole = () => {
    if (told.done && sections.seen() > told.position) over();
  };
  output.on('data', (chunk: Buffer) => {
    let room = true;
    for (const piece of sections.push(chunk)) {
      // What is told of a command's beginning may come before or after what the one before it has printed.
      firstLines[piece.section] ??= log.lines();
      if (piece.section !== printing) tail.clear();
      printing = piece.section;
      tail.push(piece.bytes);
      room = log.write(piece.bytes, piece.section) && room;
    }
    whole();
    if (room) return;
    output.pause();
    void log.drained().then(() => output.resume());
  });
  await new Promise<void>((resolve, reject) => {
    child.on('error', reject);
    child.on('close', () => resolve());
    over = resolve;
    whole();
  }).finally(() => {
    clearTimeout(timer);
    disk.stop();
  });
  abort.removeEventListener('abort', stop);
  for (const piece of sections.end()) log.write(piece.bytes, piece.section);
  if (!told.done) await controlled;
  const scene = { lastLines: () => tail.lines(), files: () => seenFiles([...layers, join(folder, 'u')]), tools: context.tools };
  const ended = judge(work, folder, told, cause, errors, bounds, chain.facts(), scene);
  // A command that printed nothing begins where the next one does.
  for (let at = work.commands.length - 1, next = log.lines(); at >= 0; at--) next = firstLines[at] ??= next;
  return { ...ended, firstLines: firstLines.slice(0, work.commands.length) as number[] };
}

/** TERM to what runs inside, KILL to all of it after the grace. */
async function endTree(child: ChildProcess, folder: string): Promise<void> {
  const first = firstProcess(folder);
  if (first !== null) {
    const runner = programOf(first);
    for (const pid of descendantsOf(first)) if (pid !== runner || descendantsOf(pid).length === 0) signal(pid, 'SIGTERM');
    for (let waited = 0; waited < graceMs && child.exitCode === null && child.signalCode === null; waited += 50)
      await new Promise((resolve) => setTimeout(resolve, 50));
  }
  if (child.exitCode === null && child.signalCode === null) child.kill('SIGKILL');
}
