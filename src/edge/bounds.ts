/** What one client may hold open here, and how slow it may be: nobody keeps a program from the others by reading or writing slowly. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { constants, type Http2ServerResponse, type Http2Session } from 'node:http2';
import type { Duplex } from 'node:stream';

export interface EdgeBounds {
  /** Open requests and tunnels of one client (by its address). */
  perClient: number;
  /** Open requests of one instance; one more is answered 503. */
  perInstance: number;
  /** Bytes of a body that are gathered before an instance is taken, and of an answer that wait for its reader. */
  buffered: number;
  /** Milliseconds in which at least `leastBytes` must pass while a body or an answer is on its way. */
  window: number;
  leastBytes: number;
  /** Milliseconds in which a program must begin to answer. */
  answerMs: number;
}

export const defaultBounds: EdgeBounds = {
  perClient: 256,
  perInstance: 512,
  buffered: 1024 * 1024,
  window: 20_000,
  leastBytes: 20_000,
  answerMs: 300_000,
};

/** Requests that may be as slow as they like: calls in which both sides speak when they have something to say. */
const patient = new WeakSet<IncomingMessage>();
export const letBeSlow = (request: IncomingMessage): void => void patient.add(request);

/**
 * Ends the request of a client that is slower than it may be: while its body has not come whole, or while parts of the answer wait for
 * it. One that waits for the program is not slow. Over HTTP/1.1 its connection ends; over HTTP/2 that stream alone, whatever others of
 * the same connection do.
 */
export function watchPace(
  request: IncomingMessage,
  response: ServerResponse,
  { window, leastBytes }: EdgeBounds,
): () => void {
  const passing = 'stream' in response ? ofStream(request, response) : ofConnection(request, response);
  let read = passing.read();
  let written = passing.written();
  const timer = setInterval(() => {
    const [nowRead, nowWritten] = [passing.read(), passing.written()];
    const sending = !request.complete && !patient.has(request);
    const slow =
      (sending && nowRead - read < leastBytes && !request.isPaused()) ||
      (passing.waits() && nowWritten - written < leastBytes);
    read = nowRead;
    written = nowWritten;
    if (slow) passing.end();
  }, window);
  timer.unref();
  return () => clearInterval(timer);
}

/** Bytes of a request and its answer that have passed, and the end of them. */
interface Passing {
  read(): number;
  written(): number;
  /** Parts of the answer wait for the client. */
  waits(): boolean;
  end(): void;
}

function ofConnection({ socket }: IncomingMessage, response: ServerResponse): Passing {
  return {
    read: () => socket.bytesRead,
    written: () => delivered(socket),
    waits: () => response.writableLength > 0 || socket.writableLength > 0,
    end: () => socket.destroy(),
  };
}

/** Nothing counts the bytes of one stream but whoever passes them: its connection has those of others, too. */
function ofStream(request: IncomingMessage, response: ServerResponse): Passing {
  const { stream } = response as unknown as Http2ServerResponse;
  let read = 0;
  let sent = 0;
  const push = request.push.bind(request);
  request.push = (chunk, encoding) => {
    read += chunk?.length ?? 0;
    return push(chunk, encoding);
  };
  const lengthOf = (chunk: unknown): number =>
    typeof chunk === 'string' ? Buffer.byteLength(chunk) : chunk instanceof Uint8Array ? chunk.length : 0;
  const write = stream.write.bind(stream) as (...words: unknown[]) => boolean;
  stream.write = ((...words: unknown[]) => {
    sent += lengthOf(words[0]);
    return write(...words);
  }) as typeof stream.write;
  return {
    read: () => read,
    written: () => sent - stream.writableLength,
    waits: () => stream.writableLength > 0,
    end: () => stream.close(constants.NGHTTP2_CANCEL),
  };
}

/** Bytes that the kernel has taken from us: those that wait in this process are not delivered. */
const delivered = (socket: Duplex & { bytesWritten?: number }): number =>
  (socket.bytesWritten ?? 0) - socket.writableLength;

/** Milliseconds between two questions whether the other side of a connection is still there, and for its answer. */
const askEveryMs = 30_000;
const askMs = 10_000;

/** Ends a connection of HTTP/2 whose other side has vanished: it would hold its requests for ever. */
export function keepAsking(session: Http2Session): void {
  let late: NodeJS.Timeout | null = null;
  const asking = setInterval(() => {
    if (session.destroyed || session.closed) return;
    late = setTimeout(() => session.destroy(), askMs);
    late.unref();
    session.ping(() => {
      if (late) clearTimeout(late);
    });
  }, askEveryMs);
  asking.unref();
  session.once('close', () => {
    clearInterval(asking);
    if (late) clearTimeout(late);
  });
}
