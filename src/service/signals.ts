/**
 * Signals of single requests that end with the service as well. AbortSignal.any would leave an entry at the service's own signal for
 * every request that there ever was (Node.js 20): these take theirs away.
 */

export interface Ending {
  signal: AbortSignal;
  /** Ends it; also leaves no trace. */
  end(): void;
}

/** Aborted by `end`, or when the service closes. */
export function openEnding(closing: AbortSignal): Ending {
  const ending = new AbortController();
  const end = () => {
    closing.removeEventListener('abort', end);
    ending.abort();
  };
  if (closing.aborted) end();
  else closing.addEventListener('abort', end, { once: true });
  return { signal: ending.signal, end };
}

/** A response or a socket; never a request, which counts as destroyed once its body has been read. */
interface Closing {
  readonly destroyed?: boolean;
  once(event: 'close', listener: () => void): unknown;
}

/** Calls when it closes; at once where it is closed already: a client may leave while the service looks into its question. */
export function whenClosed(raw: Closing, then: () => void): void {
  if (raw.destroyed) then();
  else raw.once('close', then);
}

/** Aborted when a response is over or its connection is closed, or when the service closes. */
export function untilClosed(raw: Closing, closing: AbortSignal): AbortSignal {
  const { signal, end } = openEnding(closing);
  whenClosed(raw, end);
  return signal;
}
