/**
 * Copies of requests on their way: asked of a program beside the originals, read, measured and thrown away. They are made of as little
 * as can be, since all they take is taken from whoever waits for an original: one handler each, no stream, no signal of its own.
 */
import { createHash } from 'node:crypto';
import { Agent, type Dispatcher } from 'undici';

/** Bytes of an answer that are read; milliseconds for one. */
const [mostBytes, mostMs] = [8 * 1024 * 1024, 10_000];

export interface Copied {
  status: number;
  /** Content-Type. */
  kind: string;
  bytes: number;
  /** Milliseconds until its answer began. */
  ms: number;
  /** Of its body, SHA-256 in hex; null where nobody asks. */
  body: string | null;
  /** False: it was longer than what is read, so that length and body say nothing. */
  whole: boolean;
}

export interface Copy {
  origin: string;
  path: string;
  method: 'GET' | 'HEAD';
  /** Names and values in turn. */
  headers: string[];
  /** Whether its body is to be hashed. */
  hash: boolean;
}

export interface Copies {
  /** Says once what came of it; null: no answer, or one that broke off. */
  ask(copy: Copy, say: (copied: Copied | null) => void): void;
  close(): Promise<void>;
}

export function openCopies(): Copies {
  const dispatcher = new Agent({
    connections: 8,
    pipelining: 1,
    keepAliveTimeout: 4_000,
    connect: { timeout: 2_000 },
    headersTimeout: 0,
    bodyTimeout: 0,
  });
  const open = new Set<{ began: number; end: () => void }>();
  // One clock for all: one for each copy was a good part of what it took.
  const timer = setInterval(() => {
    const oldest = performance.now() - mostMs;
    for (const one of open) if (one.began < oldest) one.end();
  }, 1_000);
  timer.unref();

  return {
    ask({ hash, ...copy }, say) {
      const began = performance.now();
      const digest = hash ? createHash('sha256') : null;
      let controller: Dispatcher.DispatchController | null = null;
      let [status, kind, bytes, ms] = [0, '', 0, 0];
      const over = (copied: Copied | null): void => {
        if (open.delete(one)) say(copied);
      };
      const answer = (whole: boolean): Copied => ({
        status,
        kind,
        bytes,
        ms,
        body: digest?.digest('hex') ?? null,
        whole,
      });
      const one = {
        began,
        end: () => {
          over(null);
          controller?.abort(new Error('it takes too long'));
        },
      };
      open.add(one);
      const handler: Dispatcher.DispatchHandler = {
        onRequestStart(given) {
          controller = given;
          if (!open.has(one)) given.abort(new Error('it takes too long'));
        },
        onResponseStart(_controller, code, headers) {
          if (code < 200) return;
          status = code;
          kind = String(headers['content-type'] ?? '');
          ms = performance.now() - began;
        },
        onResponseData(given, chunk) {
          bytes += chunk.length;
          digest?.update(chunk);
          if (bytes <= mostBytes) return;
          over(answer(false));
          given.abort(new Error('it is too long'));
        },
        onResponseEnd() {
          over(answer(true));
        },
        onResponseError() {
          over(null);
        },
      };
      try {
        dispatcher.dispatch(copy, handler);
      } catch {
        over(null);
      }
    },
    async close() {
      clearInterval(timer);
      await dispatcher.destroy();
    },
  };
}
