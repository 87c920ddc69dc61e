/**
 * An answer that goes on: server-sent events (WHATWG HTML, 9.2). Whoever reads one has a few of them at a time, must read at a
 * least pace, and must still be allowed to: that is looked at again each minute, and at once when somebody's access has changed.
 */
import { once } from 'node:events';
import type { FastifyReply, FastifyRequest } from 'fastify';
import { CodedError } from '../core/errors/errors.js';
import { openTally } from '../core/tally.js';
import { callerKey, mayStill, type Service } from './server.js';
import { whenClosed } from './signals.js';

export interface EventStream {
  /** Resolves when the reader has room for more. */
  send(event: string, data: unknown, id?: string): Promise<void>;
  /** Waits until one of its topics is heard, with a sign of life every 10 s. */
  idle(): Promise<void>;
  ended(): boolean;
}

/** Streams that one caller may have open, and all together. */
const perCaller = 24;
const inAll = 4_000;
/** Milliseconds in which a reader must have taken what was sent; between two signs of life; and between two looks at the caller. */
const takeMs = 30_000;
const lifeMs = 10_000;
const allowedMs = 60_000;

const open = openTally(perCaller);
let openInAll = 0;

/**
 * Answers with what `work` sends, until it returns, the reader goes, or the service ends. What fails in it ends the stream, so that
 * the reader comes again with the last id that it has.
 */
export async function answerStream(
  service: Service,
  request: FastifyRequest,
  reply: FastifyReply,
  topics: (topic: string) => boolean,
  work: (stream: EventStream) => Promise<void>,
): Promise<void> {
  const who = callerKey(request);
  const leave = openInAll >= inAll ? null : open.enter(who);
  if (!leave) throw new CodedError('busy', { what: 'open streams' });
  openInAll++;
  reply.hijack();
  const { raw } = reply;
  const gone = new AbortController();
  const over = () => gone.abort();
  whenClosed(raw, over);
  raw.on('error', over);
  service.closing.addEventListener('abort', over);
  // What is heard while the records are being read must not be missed: the flag is raised by each of its topics.
  let heard = false;
  const off = service.hub.on(topics, () => {
    heard = true;
  });
  let looked = performance.now();
  const offCallers = service.hub.on(
    (topic) => topic === 'callers',
    () => {
      looked = Number.NEGATIVE_INFINITY;
      heard = true;
    },
  );
  const ended = () => gone.signal.aborted || raw.destroyed || raw.writableEnded;
  const write = async (text: string): Promise<void> => {
    if (ended() || raw.write(text)) return;
    // Its end closes the response, and that ends the wait.
    const late = setTimeout(() => raw.destroy(), takeMs);
    await once(raw, 'drain', { signal: gone.signal }).catch(() => raw.destroy());
    clearTimeout(late);
  };
  const stream: EventStream = {
    send: (event, data, id) => write(`${id ? `id: ${id}\n` : ''}event: ${event}\ndata: ${JSON.stringify(data)}\n\n`),
    async idle() {
      if (performance.now() - looked > allowedMs) {
        looked = performance.now();
        if (!(await mayStill(service, request))) return over();
      }
      if (!heard) await service.hub.wait((topic) => topic === 'callers' || topics(topic), lifeMs, gone.signal);
      if (!heard) await write(': still here\n\n');
      heard = false;
    },
    ended,
  };
  try {
    raw.writeHead(200, {
      'content-type': 'text/event-stream',
      'cache-control': 'no-store',
      'x-accel-buffering': 'no',
      'x-content-type-options': 'nosniff',
    });
    await work(stream);
  } catch (error) {
    service.context.log.warn(
      { url: request.url, error: String((error as Error).stack ?? error) },
      'a stream was ended by a failure',
    );
  } finally {
    off();
    offCallers();
    service.closing.removeEventListener('abort', over);
    if (raw.writableNeedDrain) raw.destroy();
    else raw.end();
    openInAll--;
    leave();
  }
}
