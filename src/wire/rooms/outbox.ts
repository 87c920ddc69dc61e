/** Batches on their way to the service: one after another, each again until it is taken. */
import { backoff } from '../../core/backoff.js';

export interface Outbox<T> {
  /** Of more than may wait the oldest are left out. */
  put(one: T): void;
  /** Waits so long for what is left; nothing is sent after that. */
  close(ms: number): Promise<void>;
}

/** `failing` is told of the first failure of several in a row, and how many were left out by then. */
export function openOutbox<T>(
  send: (one: T) => Promise<unknown>,
  most: number,
  failing: (error: unknown, lost: number) => void,
): Outbox<T> {
  const waiting: T[] = [];
  let sending: Promise<void> | null = null;
  let failures = 0;
  let lost = 0;
  let closed = false;
  const run = async (): Promise<void> => {
    for (let first = waiting[0]; first !== undefined && !closed; first = waiting[0]) {
      try {
        await send(first);
        // It may have been left out meanwhile.
        if (waiting[0] === first) waiting.shift();
        failures = 0;
      } catch (error) {
        if (++failures === 1) failing(error, lost);
        await new Promise((resolve) => setTimeout(resolve, backoff('poll', failures)).unref());
      }
    }
  };
  return {
    put(one) {
      waiting.push(one);
      if (waiting.length > most) {
        waiting.shift();
        lost++;
      }
      sending ??= run().finally(() => {
        sending = null;
      });
    },
    async close(ms) {
      if (ms > 0) await Promise.race([sending, new Promise((resolve) => setTimeout(resolve, ms))]);
      closed = true;
    },
  };
}
