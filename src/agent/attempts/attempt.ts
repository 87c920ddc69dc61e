/** One attempt, from its claim to its last report. The first cause of an end wins and is recorded once. */
import { randomBytes } from 'node:crypto';
import { createReadStream, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { openAbort } from '../abort.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import type { AttemptReport, AttemptWork, FileList, ReportAnswer } from '../../wire/rooms/work.js';
import { type Client, untilDone } from '../../wire/rooms/client.js';
import type { DatabaseFields, Databases } from '../../resources/postgres/attempts.js';
import type { AgentContext } from '../context.js';
import { boundLog, type KeptLog } from '../log/keptlog.js';
import { makeLogSender } from '../log/log.js';
import { type Ended, maskEnded, maskerOf, maskLog } from '../log/masked.js';
import { namedReach, operatorReach } from '../settings.js';
import { follow, Orphaned } from './follow.js';
import type { FileSource } from '../files/compose.js';
import { discard } from '../files/remove.js';
import type { AttemptBounds } from '../sandbox/host.js';
import { attemptLimits } from '../sandbox/limits.js';
import type { HeldChain } from '../sandbox/ready.js';
import { pictureBind } from '../pictures/program.js';
import { volumeBinds } from '../volumes/binds.js';

export interface RunningAttempt {
  id: string;
  fence: string;
  /** Ends the work and reports it as stopped. */
  stop(): void;
  /** Ends the work without a report: it is someone else's. */
  drop(): void;
  /** It was told to end, in this way or in that. */
  ending(): boolean;
  dropped(): boolean;
  /** Whether it went as far as its last report; false when the service would not take one, or something here failed. */
  done: Promise<boolean>;
}

/** What an attempt holds: its chain, and what is to be given back in reverse order. */
interface Held {
  chain: HeldChain | null;
  release: (() => Promise<void>)[];
}

/** `next` is told what the service gives to the agent with the answer to a report. */
export function startAttempt(
  context: AgentContext,
  work: AttemptWork,
  next: (more: AttemptWork[]) => void,
): RunningAttempt {
  const abort = openAbort();
  let dropped = false;
  const done = perform(context, work, abort.signal, () => dropped, next).then(
    () => true,
    (error: Error) => {
      if (!context.stopped())
        context.log.error({ attempt: work.id, error: String(error.stack) }, 'an attempt was given up');
      return context.stopped() || dropped;
    },
  );
  return {
    id: work.id,
    fence: work.fence,
    stop: () => abort.abort('stop'),
    drop() {
      dropped = true;
      abort.abort('drop');
    },
    ending: () => abort.signal.aborted,
    dropped: () => dropped,
    done,
  };
}

async function perform(
  context: AgentContext,
  work: AttemptWork,
  abort: AbortSignal,
  dropped: () => boolean,
  next: (more: AttemptWork[]) => void,
): Promise<void> {
  const { client } = context;
  const path = `/api/agent/attempts/${work.id}`;
  const send = (happenings: AttemptReport['happenings']) =>
    untilDone(
      () => client.post<ReportAnswer | undefined>(`${path}/report`, { fence: work.fence, happenings }),
      context.stopped,
    )
      .then((answer) => next(answer?.attempts ?? []))
      .catch(ignoreOld);
  const report = async (happenings: AttemptReport['happenings']): Promise<unknown> => {
    if (dropped()) return;
    try {
      return await send(happenings);
    } catch (error) {
      if (context.stopped() || !(error instanceof CodedError)) throw error;
      // Whatever the service does not like about it, it shall know that this is over.
      context.log.error({ attempt: work.id, issue: error.issue }, 'a report was refused');
      refused = true;
      return send([
        {
          what: 'ended',
          state: 'failed',
          issue: issue('report_refused', { detail: error.message.slice(0, 300) }) as never,
          output: null,
          tests: null,
        },
      ]);
    }
  };
  let refused = false;
  const sender = makeLogSender(client, `${path}/log`, work.fence, work.logBytes, () => context.stopped() || dropped());
  const own = join(context.folder, 'work', work.id);
  if (work.makes.length) mkdirSync(own, { recursive: true, mode: 0o700 });
  const masker = maskerOf(work);
  const log = maskLog(boundLog(sender, own, context.logBounds), masker);
  const held: Held = { chain: null, release: [] };
  // Reports go out one after another; what happens meanwhile goes with the next.
  let waiting: AttemptReport['happenings'] = [];
  let reports: Promise<unknown> = Promise.resolve();
  const happens = (happening: AttemptReport['happenings'][number]) => {
    waiting.push(happening);
    reports = reports.then(async () => {
      if (happening.what === 'command-ended' && happening.exit === 0 && happening.position === work.commands.length - 1)
        return;
      const batch = waiting;
      waiting = [];
      if (batch.length && !refused) await report(batch);
    });
    // It is waited for at the end; until then nobody else hears of it.
    reports.catch(() => {});
  };
  const tar = join(own, 'outputs.tar');
  let ended: Ended | Orphaned;
  try {
    ended = await runChain(context, work, held, abort, log, happens, tar);
  } catch (error) {
    const why =
      error instanceof CodedError
        ? error.issue
        : issue('setup_failed', { detail: (error as Error).message.slice(0, 500) });
    const failed: Ended = {
      what: 'ended',
      state: abort.aborted ? 'stopped' : 'failed',
      issue: why as never,
      output: null,
      tests: null,
    };
    ended = error instanceof Orphaned ? error : failed;
  }
  try {
    // Given up: the service hears of it with the next question, and gives it out again.
    if (ended instanceof Orphaned) throw ended;
    await log.flush();
    await reports;
    if (!dropped() && ended.state === 'passed' && ended.output) await upload(context, tar, ended.output);
    if (!refused) await report([...waiting, maskEnded(ended, masker)]);
  } finally {
    held.chain?.clear();
    void discard(context.folder, own);
    for (const release of held.release.reverse())
      await release().catch((error: Error) =>
        context.log.warn({ attempt: work.id, error: String(error) }, 'something of an attempt was left behind'),
      );
  }
}

/** Work that is someone else's by now is reported by them. */
const ignoreOld = (error: unknown) => {
  if (!(error instanceof CodedError) || error.issue.code !== 'fence_old') throw error;
};

async function upload(context: AgentContext, tar: string, output: { digest: string; size: number }): Promise<void> {
  await untilDone(
    () => context.client.putStream(`/api/agent/blobs/${output.digest}`, createReadStream(tar), output.size),
    context.stopped,
  ).catch(ignoreOld);
  await context.layers.keep(output.digest, tar);
}

async function runChain(
  context: AgentContext,
  work: AttemptWork,
  held: Held,
  abort: AbortSignal,
  log: KeptLog,
  happens: (one: AttemptReport['happenings'][number]) => void,
  tar: string,
): Promise<Ended> {
  const { layers, host, client } = context;
  const path = `/api/agent/attempts/${work.id}`;
  const { files: needed } = work;
  const release = layers.hold(needed?.key ?? null, work.layers);
  held.release.push(async () => release());
  // A service that is away for a moment is no failure of the work: what must be fetched is asked for again.
  const fetched = (work: () => Promise<string>) => untilDone(work, () => context.stopped() || abort.aborted);
  const files = needed ? await fetched(() => layers.files(needed.key, filesOf(client, path, needed), abort)) : null;
  const outputs = await Promise.all(
    work.layers.map((digest) =>
      fetched(() => layers.output(digest, () => client.getStream(`/api/agent/blobs/${digest}`), abort)),
    ),
  );
  const mark = randomBytes(12).toString('hex');
  const makes = [...new Set(work.makes)].sort();
  const made = await makeResources(context, work, held);
  const volumes = volumeBinds(context, work.volumes);
  const caches = context.caches.take(work.cache.key, work.cache.paths);
  held.release.push(async () => caches.giveBack());
  const open = work.network === 'open';
  const operator = open ? await operatorReach(context.settings) : { reach: [], through: [] };
  const named = await namedReach(work.reach);
  const network = {
    open,
    listen: null,
    reach: [...named.reach, ...made.reach, ...operator.reach],
    through: [...named.through, ...operator.through],
    // A server on another machine is beyond what a tied port can lead to; it opens nothing else.
    only: open ? [] : named.only,
    bounded: [...named.bounded, ...made.reach.map(({ port }) => port)],
  };
  const pictures = work.kind === 'picture' ? picturing(context) : { binds: [], variables: {} };
  const bounds = boundsOf(host.attempt, work);
  const layersHere = [...(files ? [files] : []), ...outputs];
  const chain = await context.chains.begin({
    attempt: work.id,
    // What it writes there belongs to the account of the programs, as what they write does.
    ...(volumes.length ? { account: host.accounts.live } : {}),
    ...(bounds === host.attempt ? {} : { limits: attemptLimits(bounds) }),
    chain: { layers: layersHere, binds: [...caches.binds, ...volumes, ...pictures.binds], tmp: bounds.tmp, network },
    task: {
      mark,
      results: work.results,
      coverage: work.coverage,
      outputs: makes,
      variables: { ...(open ? context.settings : {}), ...work.variables, ...made.variables, ...pictures.variables },
      commands: work.commands,
    },
  });
  held.chain = chain;
  return follow({
    context,
    work,
    bounds,
    chain,
    abort,
    log,
    happens,
    mark,
    makes,
    layers: layersHere,
    tar,
    caches: caches.binds,
    databases: made,
  });
}

/** The agent's own program, which takes pictures with the browser of this machine. */
function picturing({ chromium, folder }: AgentContext) {
  if (!chromium) throw new CodedError('setup_failed', { detail: 'this agent has no Chromium' });
  return { binds: [pictureBind(join(folder, 'bin'))], variables: { TSUNAGI_CHROMIUM: chromium } };
}

/** What an attempt may take of this machine: a job says itself how large it is. */
function boundsOf(all: AttemptBounds, { memory, cpu }: AttemptWork): AttemptBounds {
  if (memory === undefined && cpu === undefined) return all;
  return { ...all, memory: memory ?? all.memory, cpu: cpu ?? all.cpu };
}

const filesOf = (client: Client, path: string, { count, layer }: NonNullable<AttemptWork['files']>): FileSource => ({
  count,
  whole: async () =>
    layer === undefined ? client.getStream(`${path}/files`) : Readable.from([Buffer.from(layer, 'base64')]),
  list: async () => (await client.get<FileList>(`${path}/files/list`)).files,
  some: (names) => client.postForStream(`${path}/files`, { names }),
});

/** Makes the attempt's databases and resolves the variables that come from them. */
async function makeResources(
  context: AgentContext,
  work: AttemptWork,
  held: Held,
): Promise<{ variables: Record<string, string>; reach: { port: number; host: string }[]; size(): Promise<number> }> {
  const fields: Record<string, DatabaseFields> = {};
  const names = Object.keys(work.resources);
  const databases = work.untrusted ? context.untrustedDatabases : context.databases;
  const ids: string[] = [];
  if (names.length && !databases)
    throw new CodedError('setup_failed', { detail: 'this agent has no database server for the resources of tasks' });
  for (const [at, name] of names.entries()) {
    const id = `${work.id}-${work.fence}-${at}`;
    ids.push(id);
    held.release.push(() => (databases as Databases).drop(id));
    fields[name] = await (databases as Databases).make(id, name);
  }
  const value = (reference: string) => {
    const [name = '', field = ''] = reference.split('.');
    return fields[name]?.[field as keyof DatabaseFields] ?? '';
  };
  return {
    variables: Object.fromEntries(
      Object.entries(work.fromResources).map(([name, { from, append }]) => [name, value(from) + append]),
    ),
    reach: names.map((name) => ({ port: (databases as Databases).port, host: name })),
    size: async () => (ids.length ? (databases as Databases).size(ids) : 0),
  };
}
