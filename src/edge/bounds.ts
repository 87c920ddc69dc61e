/** What one client may hold open here, and how slow it may be: nobody keeps a program from the others by reading or writing slowly. */
import type { IncomingMessage, ServerResponse } from 'node:http';
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
}

export const defaultBounds: EdgeBounds = {
  perClient: 256,
  perInstance: 512,
  buffered: 1024 * 1024,
  window: 20_000,
  leastBytes: 20_000,
};

/**
 * Ends the connection of a client that is slower than it may be: while its body has not come whole, or while parts of the answer
 * wait for it. One that waits for the program is not slow.
 */
export function watchPace(
  request: IncomingMessage,
  response: ServerResponse,
  { window, leastBytes }: EdgeBounds,
): () => void {
  const socket = request.socket;
  let read = socket.bytesRead;
  let written = delivered(socket);
  const timer = setInterval(() => {
    const [nowRead, nowWritten] = [socket.bytesRead, delivered(socket)];
    const sending = !request.complete;
    const waiting = response.writableLength > 0 || socket.writableLength > 0;
    const slow =
      (sending && nowRead - read < leastBytes && !request.isPaused()) || (waiting && nowWritten - written < leastBytes);
    read = nowRead;
    written = nowWritten;
    if (slow) socket.destroy();
  }, window);
  timer.unref();
  return () => clearInterval(timer);
}

/** Bytes that the kernel has taken from us: those that wait in this process are not delivered. */
const delivered = (socket: Duplex & { bytesWritten?: number }): number =>
  (socket.bytesWritten ?? 0) - socket.writableLength;
