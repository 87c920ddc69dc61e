import { setMaxListeners } from 'node:events';

/** What ends a piece of work: each of its layers, streams and requests listens for it, and Node.js warns of more than ten listeners. */
export function openAbort(): AbortController {
  const abort = new AbortController();
  setMaxListeners(0, abort.signal);
  return abort;
}
