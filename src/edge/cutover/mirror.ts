/**
 * Copies of requests that are safe to repeat go to the new release too, once the original is answered; what comes back is compared and
 * thrown away. Nobody waits for a copy: they have a pool of their own, of more than so many the rest is left out, and they stop for a
 * while when the originals take longer.
 */
import { randomUUID } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { type Mirror, pathOf, type ServerPath, within } from '../../core/cutover/route.js';
import { count, type Histogram, quantile } from '../../core/figures/histogram.js';
import { emptyMirrored, type Mirrored } from '../../core/cutover/mirrored.js';
import { type Copied, openCopies } from './copies.js';
import type { Note } from '../count.js';
import { forwarded, originOf } from '../headers.js';
import { isBefore } from './judged.js';

/** Copies on their way at a time, for a host. */
const mostOpen = 16;
/** Milliseconds of a slice; slices for which copies stop. */
const [sliceMs, restSlices] = [5_000, 3];
/** Slices after which a host that nobody comes to is forgotten: it begins with one without copies when it is known anew. */
const mostIdle = 120;
/** The originals take longer when their p95 is so many times, and so many milliseconds, above what it was without copies. */
const [slower, atLeastMs] = [1.3, 3];
/** Originals of a slice that say something of their time. */
const leastTimes = 30;

interface Of {
  stage: string;
  open: number;
  turn: number;
  told: Mirrored;
  /** Times of the originals in this slice. */
  times: Histogram;
  /** Their p95 without copies, when it was measured last; of the measure that goes on. Null: too few came. */
  base: number | null;
  resting: number | null;
  /** Slices until copies go again; the first one has none, for a measure. */
  rests: number;
  /** Slices in which nobody came. */
  idle: number;
}

export interface MirrorRoom {
  /** Whether its body is to be hashed on its way. */
  hashes(mirror: Mirror, path: string): boolean;
  /** The original is answered: what is known of that is in its note. */
  copy(
    host: string,
    mirror: Mirror,
    request: IncomingMessage,
    original: { path: string; note: Note; status: number; ms: number | null; visible: (place: ServerPath) => string },
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
  const copies = openCopies();
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
        // The least of them: the first one may still have been slowed.
        if (p95 !== null) one.resting = Math.min(one.resting ?? p95, p95);
        if (one.rests === 0 && one.resting !== null) [one.base, one.resting] = [one.resting, null];
      } else if (p95 !== null && one.base === null) {
        // Too few came for a measure before: it is taken now.
        one.rests = 1;
      } else if (p95 !== null && one.base !== null && p95 > one.base * slower && p95 > one.base + atLeastMs) {
        one.rests = restSlices;
        one.told.rested++;
      }
      const { told } = one;
      if (told.compared + told.dropped + told.rested > 0) all.push({ host, stage: one.stage, mirrored: told });
      one.idle = seen > 0 || one.open > 0 ? 0 : one.idle + 1;
      if (one.idle > mostIdle) hosts.delete(host);
      one.told = emptyMirrored();
    }
    if (all.length) put(all);
  };

  const ofHost = (host: string, stage: string): Of => {
    const known = hosts.get(host);
    if (known && (known.stage === stage || isBefore(stage, known.stage))) return known;
    const fresh: Of = {
      stage,
      open: 0,
      turn: 0,
      told: emptyMirrored(),
      times: [],
      base: null,
      resting: null,
      rests: 1,
      idle: 0,
    };
    hosts.set(host, fresh);
    return fresh;
  };

  const compare = (
    one: Of,
    original: Parameters<MirrorRoom['copy']>[3],
    copied: Copied | null,
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
      if (copied.whole && copied.bytes !== original.note.bytes) told.length++;
    }
    if (wanted !== null && copied?.whole !== false) {
      told.same++;
      if (copied?.body !== wanted) told.differ++;
    }
  };

  return {
    hashes: (mirror, path) => mirror.same.some((at) => within(at, path)),
    copy(host, mirror, request, original) {
      if (!mayCopy(mirror, request, original.path)) return;
      const one = ofHost(host, mirror.stage);
      if (original.ms !== null) count(one.times, original.ms);
      if (one.rests > 0) return;
      const place = pathOf({ ...mirror.target, share: 0, until: null }, original.path);
      if (place?.kind !== 'server' || place.http2) return;
      if (one.open >= mostOpen) {
        one.told.dropped++;
        return;
      }
      const body = original.note.digest?.digest('hex') ?? null;
      const instance = place.instances[one.turn++ % place.instances.length];
      // Nobody there to ask is an answer, too: the original had one.
      if (!instance) {
        compare(one, original, null, body);
        return;
      }
      one.open++;
      const copy = {
        origin: originOf(instance),
        path: original.visible(place),
        method: request.method as 'GET',
        headers: [...forwarded(request, randomUUID()), 'tsunagi-mirror', '1'],
        hash: body !== null,
      };
      copies.ask(copy, (copied) => {
        one.open--;
        compare(one, original, copied, body);
      });
    },
    async close() {
      clearInterval(timer);
      turn();
      await copies.close();
    },
  };
}
