/** Counts what passes here, in slots of ten seconds, and sends it on: each slot once it is over, again until it is taken. */
import { type Hash, randomUUID } from 'node:crypto';
import { count, type Histogram } from '../core/figures/histogram.js';
import type { Client } from '../wire/rooms/client.js';
import type { EdgeFigures } from '../wire/environments/figures.js';
import type { HostSlice } from './cutover/judged.js';
import { openOutbox } from '../wire/rooms/outbox.js';

/** One request on its way: whoever answers it notes what is known. */
export interface Note {
  /** Id of the instance that answers; empty for a site. */
  instance: string;
  /** When its answer began, by `performance.now()`; null while it has not. */
  answeredAt: number | null;
  /** No program has answered it. */
  unanswered: boolean;
  /** Bytes of its answer, where a program gives it. */
  bytes: number;
  /** Content-Type of its answer, where a program gives it. */
  kind: string;
  /** What the visitor is to keep; null: nothing. */
  cookie: string | null;
  /** Hashes the body of its answer, where a copy's must be equal; null: nobody asks. */
  digest: Hash | null;
}

export const freshNote = (cookie: string | null = null): Note => ({
  instance: '',
  answeredAt: null,
  unanswered: false,
  bytes: 0,
  kind: '',
  cookie,
  digest: null,
});

export interface Counted {
  host: string;
  /** `d17` */
  deployment: string;
  part: string;
  instance: string;
  error: boolean;
  bytes: number;
  /** Milliseconds until its answer began; null where that says nothing. */
  ms: number | null;
}

export interface Counter {
  count(one: Counted): void;
  /** A host is used just now. */
  use(host: string): void;
  /** What was counted apart of hosts whose traffic moves. */
  apart(slices: HostSlice[]): void;
  /** Sends what is left, once. */
  close(): Promise<void>;
}

interface Sum {
  requests: number;
  errors: number;
  bytes: number;
  times: Histogram;
}

const slotMs = 10_000;
/** Slots that wait for a service that is away; of more the oldest are left out. */
const mostSlots = 360;
/** Kinds of things that one slot tells apart: hosts are those of the table, so this bounds a mistake alone. */
const mostKeys = 20_000;

export function openCounter(
  client: Pick<Client, 'post'>,
  name: string,
  log: { warn(data: object, text: string): void },
  /** Hosts that are used at this moment. */
  used: () => string[] = () => [],
  now: () => number = Date.now,
): Counter {
  const boot = randomUUID();
  let batch = 0;
  let slot = Math.floor(now() / slotMs);
  let sums = new Map<string, Sum>();
  let uses = new Map<string, number>();
  const outbox = openOutbox<EdgeFigures>(
    (one) => client.post('/api/edge/figures', one),
    mostSlots,
    (error, lost) => log.warn({ error: String(error), lost }, 'figures could not be sent; trying again'),
  );

  const turn = (last = false): void => {
    const current = Math.floor(now() / slotMs);
    if (current === slot && !last) return;
    for (const host of used()) uses.set(host, now());
    if (sums.size + uses.size) {
      batch++;
      const at = slot * (slotMs / 1_000);
      const figures = [...sums].map(([key, sum]) => {
        const [host = '', deployment = '', part = '', instance = ''] = key.split('\n');
        return { at, host, deployment: Number(deployment.slice(1)), part, instance, ...sum };
      });
      outbox.put({ boot, batch, name, figures, uses: [...uses].map(([host, at]) => ({ host, at })) });
      uses = new Map();
    }
    sums = new Map();
    slot = current;
  };
  // A little after the slot's end: what was counted last is in it.
  const timer = setInterval(() => turn(), 1_000);
  timer.unref();
  return {
    apart(slices) {
      outbox.put({ boot, batch: ++batch, name, figures: [], slices });
    },
    use(host) {
      if (uses.size < mostKeys) uses.set(host, now());
    },
    count({ host, deployment, part, instance, error, bytes, ms }) {
      if (Math.floor(now() / slotMs) !== slot) turn();
      const key = `${host}\n${deployment}\n${part}\n${instance}`;
      let sum = sums.get(key);
      if (!sum) {
        if (sums.size >= mostKeys) return;
        sum = { requests: 0, errors: 0, bytes: 0, times: [] };
        sums.set(key, sum);
      }
      sum.requests++;
      if (error) sum.errors++;
      sum.bytes += bytes;
      if (ms !== null) count(sum.times, ms);
    },
    async close() {
      clearInterval(timer);
      turn(true);
      await outbox.close(1_000);
    },
  };
}
