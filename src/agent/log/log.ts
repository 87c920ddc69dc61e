/** Sends what a piece of work prints: in order, in batches, by position, so that a repeat is harmless. */
import { CodedError } from '../../core/errors/errors.js';
import { countLines } from '../../core/lines.js';
import { type Client, untilDone } from '../../wire/rooms/client.js';

/** Bytes that wait to be sent before the source is asked to pause, and bytes of one batch. */
const waitingLimit = 4 * 1024 * 1024;
const batchLimit = 512 * 1024;
/** Milliseconds in which small writes are gathered. */
const gatherMs = 20;

export interface LogSender {
  /** Adds bytes of a command. False: pause until `drained`. */
  write(bytes: Buffer, command: number): boolean;
  drained(): Promise<void>;
  hasRoom(): boolean;
  /** Resolves when all is acknowledged (or the work is no longer ours). */
  flush(): Promise<void>;
  /** What is left out right before the next bytes; all before has been written. */
  skip(what: { lines: number; bytes: number }): void;
  /** Lines so far. */
  lines(): number;
  /** Bytes that the service has. */
  acknowledged(): number;
}

interface Waiting {
  bytes: Buffer;
  command: number;
  skipped?: { lines: number; bytes: number };
}

export function makeLogSender(
  client: Client,
  path: string,
  fence: string,
  from: number,
  stopped: () => boolean,
): LogSender {
  const queue: Waiting[] = [];
  let waiting = 0;
  let position = from;
  let lines = 0;
  let sending: Promise<void> | null = null;
  let lost = false;
  let gap: Waiting['skipped'] | null = null;
  let wake: (() => void)[] = [];

  let hurry = () => {};
  const gather = () =>
    new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, gatherMs);
      hurry = () => {
        clearTimeout(timer);
        resolve();
      };
    });
  const send = async (): Promise<void> => {
    await gather();
    while (queue.length && !lost) {
      const batch = take(queue);
      try {
        const answer = await untilDone(
          () =>
            client.postBytes<{ position: number }>(
              `${path}?fence=${fence}&position=${position}&command=${batch.command}${batch.skipped ? `&skippedLines=${batch.skipped.lines}&skippedBytes=${batch.skipped.bytes}` : ''}`,
              batch.bytes,
            ),
          stopped,
        );
        position = answer.position;
      } catch (error) {
        // Another agent has the work by now, or this one ends: nobody waits for these lines.
        lost = error instanceof CodedError || stopped();
        if (!lost) throw error;
      }
      waiting -= batch.bytes.length;
      if (waiting < waitingLimit / 2) release();
    }
    if (lost) {
      queue.length = 0;
      waiting = 0;
      release();
    }
  };
  const release = () => {
    const all = wake;
    wake = [];
    for (const one of all) one();
  };
  const start = () => {
    sending ??= send().finally(() => {
      sending = null;
      if (queue.length) start();
    });
    sending.catch(() => {});
  };
  return {
    write(bytes, command) {
      if (bytes.length === 0 || lost) return true;
      lines += countLines(bytes);
      queue.push({ bytes, command, ...(gap ? { skipped: gap } : {}) });
      gap = null;
      waiting += bytes.length;
      start();
      return waiting < waitingLimit;
    },
    drained: () => (waiting < waitingLimit ? Promise.resolve() : new Promise((resolve) => wake.push(resolve))),
    hasRoom: () => lost || waiting < waitingLimit / 2,
    async flush() {
      hurry();
      while (sending) await sending;
    },
    skip(what) {
      gap = what;
    },
    lines: () => lines,
    acknowledged: () => position,
  };
}

/** The longest run of one command from the head of the queue, up to a batch; a gap begins a batch of its own. */
function take(queue: Waiting[]): Waiting {
  const { command = 0, skipped } = queue[0] ?? {};
  const parts: Buffer[] = [];
  let size = 0;
  while (queue[0] && queue[0].command === command && size < batchLimit && (parts.length === 0 || !queue[0].skipped)) {
    const { bytes } = queue[0];
    const room = batchLimit - size;
    parts.push(bytes.subarray(0, room));
    size += Math.min(room, bytes.length);
    if (bytes.length > room) queue[0] = { bytes: bytes.subarray(room), command };
    else queue.shift();
  }
  return {
    bytes: parts.length === 1 ? (parts[0] as Buffer) : Buffer.concat(parts),
    command,
    ...(skipped ? { skipped } : {}),
  };
}
