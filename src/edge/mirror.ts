/**
 * Copies of requests that are safe to repeat go to the new release too, once the original is answered; what comes back is compared and
 * thrown away. Nobody waits for a copy: they have a pool of their own, of more than so many the rest is left out, and they stop for a
 * while when the originals take longer.
 */
import { createHash, randomUUID } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { Agent } from 'undici';
import { type Mirror, pathOf, type ServerPath, within } from '../core/cutover/route.js';
import { count, type Histogram, quantile } from '../core/figures/histogram.js';
import { emptyMirrored, type Mirrored } from '../core/cutover/mirrored.js';
import type { Note } from './count.js';
import { askedFor, forwarded } from './headers.js';
import { isBefore } from './judged.js';

/** Copies on their way at a time, for a host; bytes of an answer that are read; milliseconds for one. */
const [mostOpen, mostBytes, mostMs] = [16, 8 * 1024 * 1024, 10_000];
/** Milliseconds of a slice; slices for which copies stop. */
const [sliceMs, restSlices] = [5_000, 3];
/** The originals take longer when their p95 is so many times, and so many milliseconds, above what it was without copies. */
const [slower, atLeastMs] = [1.3, 3];
/** Originals of a slice that say something of their time. */
const leastTimes = 30;

interface Of {
  stage: string;
  open: number;
  turn: number;
  told: Mirrored;
  /** Times of the originals in this slice, and without copies. */
  times: Histogram;
  base: number | null;
  /** Slices until copies go again; the first one has none, for a measure. */
  rests: number;
}

export interface MirrorRoom {
  /** Whether its body is to be hashed on its way. */
  hashes(mirror: Mirror, path: string): boolean;
  /** The original is answered: what is known of that is in its note. */
  copy(
    host: string,
    mirror: Mirror,
    request: IncomingMessage,
    original: { note: Note; status: number; ms: number | null; visible: (place: ServerPath) => string },
  ): void;
  close(): Promise<void>;
}

/** Whether a copy of it does no harm: it reads, opens nothing that stays, and says nothing of who asks, where that is not let. */
function mayCopy(mirror: Mirror, { method, headers }: IncomingMessage, path: string): boolean {
  if (method !== 'GET' && method !== 'HEAD') return false;
  if (headers.upgrade !== undefined || headers.range !== undefined) return false;
  if ((headers.accept ?? '').includes('text/event-stream')) return false;
  if (headers.cookie === undefined && headers.authorization === undefined) return true;
  return mirror.paths.some((at) => within(at, path));
}

const plainKind = (kind: string): string => kind.split(';')[0]?.trim().toLowerCase() ?? '';

export function openMirror(put: (all: { host: string; stage: string; mirrored: Mirrored }[]) => void): MirrorRoom {
  const dispatcher = new Agent({ connections: 8, pipelining: 1, keepAliveTimeout: 4_000, connect: { timeout: 2_000 } });
  const hosts = new Map<string, Of>();
  const timer = setInterval(() => turn(), sliceMs);
  timer.unref();

  const turn = (): void => {
    const all: Parameters<typeof put>[0] = [];
    for (const [host, one] of hosts) {
      const seen = one.times.reduce((sum, here) => sum + here, 0);
      const p95 = seen >= leastTimes ? quantile(one.times, 0.95) : null;
      one.times = [];
      if (one.rests > 0) {
        one.rests--;
        if (p95 !== null) one.base = one.base === null ? p95 : Math.min(one.base, p95);
      } else if (p95 !== null && one.base !== null && p95 > one.base * slower && p95 > one.base + atLeastMs) {
        one.rests = restSlices;
        one.told.rested++;
      }
      const { told } = one;
      if (told.compared + told.dropped + told.rested > 0) all.push({ host, stage: one.stage, mirrored: told });
      else if (seen === 0 && one.open === 0) hosts.delete(host);
      one.told = emptyMirrored();
    }
    if (all.length) put(all);
  };

  const ofHost = (host: string, stage: string): Of => {
    const known = hosts.get(host);
    if (known && (known.stage === stage || isBefore(stage, known.stage))) return known;
    const fresh: Of = { stage, open: 0, turn: 0, told: emptyMirrored(), times: [], base: null, rests: 1 };
    hosts.set(host, fresh);
    return fresh;
  };

  const ask = async (place: ServerPath, path: string, request: IncomingMessage, one: Of, hash: boolean) => {
    const instance = place.instances[one.turn++ % place.instances.length];
    if (!instance) return null;
    const began = performance.now();
    const answer = await dispatcher
      .request({
        origin: `http://${instance.address}:${instance.port}`,
        path,
        method: request.method as 'GET',
        headers: [...forwarded(request, randomUUID()), 'tsunagi-mirror', '1'],
        headersTimeout: mostMs,
        bodyTimeout: mostMs,
        signal: AbortSignal.timeout(mostMs),
      })
      .catch(() => null);
    if (!answer) return null;
    const ms = performance.now() - began;
    let bytes = 0;
    const digest = hash ? createHash('sha256') : null;
    try {
      for await (const chunk of answer.body) {
        bytes += (chunk as Buffer).length;
        digest?.update(chunk as Buffer);
        if (bytes > mostBytes) {
          answer.body.destroy();
          break;
        }
      }
    } catch {
      return null;
    }
    return {
      status: answer.statusCode,
      kind: String(answer.headers['content-type'] ?? ''),
      bytes,
      ms,
      body: digest?.digest('hex') ?? null,
    };
  };

  const compare = (
    one: Of,
    original: Parameters<MirrorRoom['copy']>[3],
    copied: Awaited<ReturnType<typeof ask>>,
    wanted: string | null,
  ): void => {
    const { told } = one;
    const [oldBad, nowBad] = [original.status >= 500 || original.note.unanswered, !copied || copied.status >= 500];
    told.compared++;
    if (oldBad) told.oldErrors++;
    if (nowBad) told.nowErrors++;
    if (original.ms !== null) count(told.oldTimes, original.ms);
    if (copied) count(told.nowTimes, copied.ms);
    if (!copied || copied.status !== original.status) told.status++;
    else {
      if (plainKind(copied.kind) !== plainKind(original.note.kind)) told.kind++;
      if (copied.bytes !== original.note.bytes) told.length++;
    }
    if (wanted !== null) {
      told.same++;
      if (copied?.body !== wanted) told.differ++;
    }
  };

  return {
    hashes: (mirror, path) => mirror.same.some((at) => within(at, path)),
    copy(host, mirror, request, original) {
      const asked = askedFor(request.url ?? '/');
      if (!asked || !mayCopy(mirror, request, asked.path)) return;
      const one = ofHost(host, mirror.stage);
      if (original.ms !== null) count(one.times, original.ms);
      if (one.rests > 0) return;
      const place = pathOf({ ...mirror.target, share: 0, until: null }, asked.path);
      if (place?.kind !== 'server' || place.http2) return;
      if (one.open >= mostOpen) {
        one.told.dropped++;
        return;
      }
      const body = original.note.digest?.digest('hex') ?? null;
      one.open++;
      ask(place, original.visible(place), request, one, body !== null)
        .then((copied) => compare(one, original, copied, body))
        .catch(() => one.told.dropped++)
        .finally(() => one.open--);
    },
    async close() {
      clearInterval(timer);
      turn();
      await dispatcher.destroy();
    },
  };
}
