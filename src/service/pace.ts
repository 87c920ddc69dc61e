/** Ends requests whose body does not come: each of them holds a descriptor. Large bodies may take as long as they like, if they go on. */
import type { IncomingMessage } from 'node:http';

export interface Pace {
  /** Milliseconds in which at least `leastBytes` of a body must come. */
  window: number;
  leastBytes: number;
}

export const bodyPace: Pace = { window: 30_000, leastBytes: 1_000 };

/** Destroys a request that is slower. Nothing is counted while we ourselves do not read. */
export function watchBody(request: IncomingMessage, { window, leastBytes }: Pace = bodyPace): void {
  const { headers, socket } = request;
  const empty = headers['transfer-encoding'] === undefined && Number(headers['content-length'] ?? 0) === 0;
  if (empty || request.complete) return;
  let before = socket.bytesRead;
  const timer = setInterval(() => {
    const now = socket.bytesRead;
    const slow = now - before < leastBytes && !request.isPaused();
    before = now;
    if (request.complete) clearInterval(timer);
    else if (slow) request.destroy(new Error('its body does not come'));
  }, window);
  timer.unref();
  request.once('close', () => clearInterval(timer));
}
