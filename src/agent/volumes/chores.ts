/** What is done to this machine's volumes: one thing at a time to each. What came of it is told under the fence of its chore. */
import { PassThrough } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { openAbort } from '../abort.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import type { SeenHere } from '../../resources/volumes/volumes.js';
import { untilDone } from '../../wire/rooms/client.js';
import type { ChoreReport, ChoreWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';

/** Milliseconds between two looks at how full they are; to count files takes longer. */
const lookMs = 10_000;
const countMs = 60_000;

interface Held {
  id: string;
  fence: string;
}

export interface Chores {
  held(): Held[];
  take(work: ChoreWork): void;
  /** Ends it without a report: it is someone else's. */
  drop(id: string): void;
  /** Removes a volume that belongs to nobody, after whatever is done to it now. */
  forget(volume: string): void;
  /** All volumes as they were seen last, where the service was not told of that yet. */
  news(): SeenHere[] | null;
  told(news: SeenHere[]): void;
  /** Ends all of them. */
  stop(): void;
  over(): Promise<void>;
}

interface Running extends Held {
  abort: AbortController;
  done: Promise<void>;
}

export function openChores(context: AgentContext): Chores {
  const running = new Map<string, Running>();
  /** Volume → the end of what is done to it last. */
  const last = new Map<string, Promise<void>>();
  let seen: SeenHere[] | null = null;
  let stopped = false;
  let failing = false;
  const look = async (): Promise<void> => {
    seen = await context.volumes.look();
    failing = false;
  };
  const lookSoon = () =>
    void look().catch((error: Error) => {
      if (!failing) context.log.warn({ error: String(error) }, 'volumes could not be looked at');
      failing = true;
    });
  lookSoon();
  const looking = setInterval(lookSoon, context.volumes.hold === 'filesystem' ? lookMs : countMs);
  looking.unref();

  const drop = (id: string) => running.get(id)?.abort.abort();
  return {
    forget(volume) {
      if (stopped) return;
      const done = (last.get(volume) ?? Promise.resolve())
        .then(() => context.volumes.remove(volume))
        .catch((error: Error) =>
          context.log.warn({ volume, error: String(error) }, 'a volume of nobody is still there'),
        )
        .finally(() => {
          if (last.get(volume) === done) last.delete(volume);
          lookSoon();
        });
      last.set(volume, done);
    },
    held: () => [...running.values()].map(({ id, fence }) => ({ id, fence })),
    take(work) {
      if (stopped || running.get(work.id)?.fence === work.fence) return;
      drop(work.id);
      const abort = openAbort();
      const before = last.get(work.volume) ?? Promise.resolve();
      const done = before
        .then(() => (abort.signal.aborted ? undefined : perform(context, work, abort.signal)))
        .catch((error: Error) => {
          if (!context.stopped() && !abort.signal.aborted)
            context.log.error({ chore: work.id, error: String(error.stack) }, 'a chore was given up');
        })
        .finally(() => {
          if (running.get(work.id) === one) running.delete(work.id);
          if (last.get(work.volume) === done) last.delete(work.volume);
          lookSoon();
        });
      const one: Running = { id: work.id, fence: work.fence, abort, done };
      running.set(work.id, one);
      last.set(work.volume, done);
    },
    drop,
    news: () => seen,
    told(news) {
      if (seen === news) seen = null;
    },
    stop() {
      stopped = true;
      clearInterval(looking);
      for (const { abort } of running.values()) abort.abort();
    },
    over: async () => void (await Promise.all(last.values())),
  };
}

async function perform(context: AgentContext, work: ChoreWork, abort: AbortSignal): Promise<void> {
  const report: ChoreReport = { fence: work.fence, found: null, issue: null };
  try {
    report.found = await act(context, work, abort);
  } catch (error) {
    if (abort.aborted || context.stopped()) return;
    // Somebody else's by now.
    if (error instanceof CodedError && error.issue.code === 'fence_old') return;
    context.log.warn({ volume: work.volume, act: work.act, error: String((error as Error).stack) }, 'a chore failed');
    const found =
      error instanceof CodedError
        ? error.issue
        : issue('volume_failed', { agent: context.name, detail: oneLine((error as Error).message) });
    report.issue = found as never;
  }
  await untilDone(
    () => context.client.post(`/api/agent/chores/${work.id}/report`, report),
    () => context.stopped() || abort.aborted,
  ).catch((error: unknown) => {
    if (!(error instanceof CodedError) || error.issue.code !== 'fence_old') throw error;
  });
}

const oneLine = (text: string): string => text.trim().split('\n').at(-1)?.slice(0, 300) ?? '';

async function act(
  context: AgentContext,
  { id, fence, volume, act: what, turn, size }: ChoreWork,
  abort: AbortSignal,
): Promise<ChoreReport['found']> {
  const { volumes, client, stopped } = context;
  const path = `/api/agent/chores/${id}/bytes?fence=${fence}`;
  const over = () => stopped() || abort.aborted;
  const bytes = () => untilDone(() => client.getStream(path), over);
  switch (what) {
    case 'make':
      await volumes.make(volume, size ?? 0);
      return null;
    case 'enlarge':
      await volumes.enlarge(volume, turn, size ?? 0, abort);
      return null;
    case 'restore':
      await volumes.restore(volume, turn, size ?? 0, await bytes(), abort);
      return null;
    case 'try':
      return volumes.tryOut(volume, size ?? 0, await bytes(), abort);
    case 'back up':
      await untilDone(() => send(context, volume, path, abort), over);
      return null;
    case 'remove':
      await volumes.remove(volume);
      return null;
    default:
      return what satisfies never;
  }
}

/** Sends all files of a volume. Throws `volume_failed` where they can't be read; what broke off on its way may be sent again. */
async function send(
  { volumes, client, name }: AgentContext,
  volume: string,
  path: string,
  abort: AbortSignal,
): Promise<void> {
  const archive = volumes.read(volume);
  const body = new PassThrough();
  let refused: Error | null = null;
  abort.addEventListener('abort', archive.kill, { once: true });
  // Its end is written when it is known to be whole: of what broke off nothing is kept.
  const written = pipeline(archive.bytes, body, { end: false })
    .then(() => archive.done)
    .then(
      () => void body.end(),
      (error: Error) => {
        refused = error;
        body.destroy(error);
      },
    );
  try {
    await client.putStream(path, body, null);
  } catch (error) {
    // Read no further than it was sent; where it could not be read, that is why it was not sent.
    const unread = refused as Error | null;
    archive.kill();
    if (unread && !abort.aborted)
      throw new CodedError('volume_failed', { agent: name, detail: oneLine(unread.message) }, unread);
    throw error;
  } finally {
    abort.removeEventListener('abort', archive.kill);
    body.destroy();
    await written;
  }
}
