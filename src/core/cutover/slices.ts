/**
 * What an edge counts of a cutover, in slices: how many were assigned to each side, and how many of them fared badly. A visitor who
 * stays on one side is one of them, however often they ask, and is bad at most once in a stage: people who try again and again would
 * else be taken for many. Whoever has no number of their own is one with each request. Bounds are of answers: of these a visitor has
 * at most one bad one in a slice.
 */
import { bucketOf, boundOf, count, type Histogram, quantile } from '../figures/histogram.js';
import { type CutoverFigure, cutoverFigures, mostPaths, type SliceCount } from './verdict.js';

export interface Answered {
  side: 'old' | 'now';
  part: string;
  path: string;
  instance: string;
  /** Of a visitor who stays on a side; null: each request is drawn anew. */
  visitor: number | null;
  error: boolean;
  /** Milliseconds until the answer began; null: that says nothing. */
  ms: number | null;
}

/** An instance's first answers are not judged for time: so many, or so long (milliseconds). */
const warmAnswers = 50;
const warmMs = 30_000;

/** The old side's answers that its p95 is taken from, at least. */
const leastTimes = 100;

interface OfSide {
  /** Who came, by their number. */
  visitors: Set<number>;
  /** Of them, who fared badly in this slice. */
  fared: Set<number>;
  /** Answers: to those without a number, or all of them, as the figure counts. */
  answers: number;
  bad: number;
}

interface Group {
  /** Visitors who fared badly in this stage, by figure. */
  bad: Record<CutoverFigure, Set<number>>;
  /** In this slice. */
  slice: Record<CutoverFigure, Record<'old' | 'now', OfSide>>;
}

const each = <T>(of: () => T): Record<CutoverFigure, T> => ({
  errors: of(),
  slow: of(),
  rate: of(),
  p95: of(),
  same: of(),
});
const freshSide = (): OfSide => ({ visitors: new Set(), fared: new Set(), answers: 0, bad: 0 });
const freshSlice = (): Group['slice'] => each(() => ({ old: freshSide(), now: freshSide() }));
/** What is compared is counted by visitors; what is held against a bound by answers. */
const byVisitor: readonly CutoverFigure[] = ['errors', 'slow'];

/** What is known of the programs, and goes on to be so in the next stage of the same deployment. */
export interface Carried {
  instances: Map<string, { answers: number; since: number }>;
  /** By part: the times of the old side until the last turn, and since. */
  times: Map<string, { before: Histogram; slice: Histogram }>;
  thresholds: Map<string, number>;
}

export interface Slices {
  carried: Carried;
  take(one: Answered): void;
  /** What was counted since the last turn; the old side's p95 of until now is what the next slice's times are held against. */
  turn(): SliceCount[];
}

/** The counting of one stage of one cutover at one edge. `boundMs`: of a guard; null: none. */
export function openSlices({
  beside,
  boundMs,
  now,
  carried = { instances: new Map(), times: new Map(), thresholds: new Map() },
}: {
  beside: boolean;
  boundMs: number | null;
  now: () => number;
  /** Of the stage before. */
  carried?: Carried;
}): Slices {
  const groups = new Map<string, Group>();
  const { instances, times, thresholds } = carried;

  const groupOf = (part: string, path: string): Group | null => {
    const key = `${part} ${path}`;
    const known = groups.get(key);
    if (known) return known;
    if (path !== '' && [...groups.keys()].filter((one) => one.startsWith(`${part} /`)).length >= mostPaths) return null;
    const group = { bad: each(() => new Set<number>()), slice: freshSlice() };
    groups.set(key, group);
    return group;
  };
  const warm = (instance: string): boolean => {
    const known = instances.get(instance) ?? { answers: 0, since: now() };
    known.answers++;
    instances.set(instance, known);
    return known.answers > warmAnswers && now() - known.since >= warmMs;
  };
  const put = (group: Group, figure: CutoverFigure, { side, visitor }: Answered, bad: boolean): void => {
    const all = group.slice[figure][side];
    if (visitor !== null && byVisitor.includes(figure)) {
      if (group.bad[figure].has(visitor)) return;
      all.visitors.add(visitor);
      if (bad) group.bad[figure].add(visitor);
    } else all.answers++;
    if (!bad) return;
    // Of somebody who tries again and again one answer of a slice is enough.
    if (visitor !== null) {
      if (all.fared.has(visitor)) return;
      all.fared.add(visitor);
    }
    all.bad++;
  };

  const takeFor = (group: Group | null, one: Answered, ready: boolean, threshold: number | undefined): void => {
    if (!group) return;
    if (beside) put(group, 'errors', one, one.error);
    put(group, 'rate', one, one.error);
    if (one.ms === null || !ready) return;
    if (beside && threshold !== undefined) put(group, 'slow', one, one.ms > threshold);
    if (boundMs !== null) put(group, 'p95', one, one.ms > boundMs);
  };

  return {
    carried,
    take(one) {
      const ready = warm(one.instance);
      const threshold = thresholds.get(one.part);
      takeFor(groupOf(one.part, ''), one, ready, threshold);
      if (one.path !== '') takeFor(groupOf(one.part, one.path), one, ready, threshold);
      if (one.side === 'old' && one.ms !== null && ready) {
        const own = times.get(one.part) ?? { before: [], slice: [] };
        count(own.slice, one.ms);
        times.set(one.part, own);
      }
    },
    turn() {
      const counts: SliceCount[] = [];
      for (const [key, group] of groups) {
        const space = key.indexOf(' ');
        const [part, path] = [key.slice(0, space), key.slice(space + 1)];
        for (const figure of cutoverFigures) {
          const { old, now: fresh } = group.slice[figure];
          const side = (all: typeof old) => ({ units: all.visitors.size + all.answers, bad: all.bad });
          if (side(old).units + side(fresh).units > 0)
            counts.push({ figure, part, path, old: beside ? side(old) : null, now: side(fresh) });
        }
        group.slice = freshSlice();
      }
      for (const [part, own] of times) {
        for (let at = 0; at < own.slice.length; at++) own.before[at] = (own.before[at] ?? 0) + (own.slice[at] ?? 0);
        own.slice = [];
        const all = own.before.reduce((sum, here) => sum + here, 0);
        const p95 = all >= leastTimes ? quantile(own.before, 0.95) : null;
        // At a bound of the histogram: times on one side of it are told apart as they are counted.
        if (p95 !== null) thresholds.set(part, boundOf(bucketOf(p95)));
      }
      return counts;
    },
  };
}

/**
 * The group of a path: its first two pieces, in which what looks like the name of one thing (with a digit, or long) is a star.
 * `/api/sailings/214` is `/api/sailings`, `/orders/93a1f0` is `/orders/*`.
 */
export function pathGroup(path: string): string {
  const pieces = path.split('/').filter(Boolean).slice(0, 2);
  const plain = pieces.map((one) => (/\d/.test(one) || one.length > 30 || !/^[A-Za-z._~-]+$/.test(one) ? '*' : one));
  return `/${plain.join('/')}`;
}
