/**
 * How the new release of a cutover does beside the old one, and against its bounds: what edges have counted in slices of a few seconds
 * becomes weights of tests (`judge.ts`), and these a verdict. Nothing is thrown away when a share grows: the tests go on, and all of
 * one deployment together blame a good release in at most `falseAlarms` of all cases.
 */
import {
  evidence,
  falseAlarms,
  isWorse,
  noWeight,
  seenIn100,
  type Side,
  towards,
  type Weight,
  weighBeside,
  weighBound,
} from './judge.js';

export interface GuardPlan {
  /** Share of the answers that may be errors, 0 to 1; null: no bound. */
  errors: number | null;
  /** Milliseconds within which 95 of 100 answers are to begin; null: no bound. */
  p95Ms: number | null;
  /** With too little traffic to judge by. */
  few: 'wait' | 'continue';
}

/**
 * Beside the old release, by whoever meets it: `errors` (no answer, or a 5xx), `slow` (slower than the old side's p95 of before).
 * Against a bound, by answers: `rate` of errors, `p95` (slower than the bound), `same` (copies that differ where they must not).
 */
export const cutoverFigures = ['errors', 'slow', 'rate', 'p95', 'same'] as const;
export type CutoverFigure = (typeof cutoverFigures)[number];

/** What was counted of a part in a slice; `path` is a group of paths, or empty: all of the part. */
export interface SliceCount {
  figure: CutoverFigure;
  part: string;
  path: string;
  /** Null: nothing of it is beside the new one any more. */
  old: Side | null;
  now: Side;
}

export interface CutoverTest {
  weight: Weight;
  /** Of the other way round: that the old one is worse. */
  reverse: Weight;
  old: Side;
  now: Side;
}

/** What is held against the old release. */
const besides: readonly CutoverFigure[] = ['errors', 'slow'];

/** By `figure part path`. */
export type CutoverTests = Record<string, CutoverTest>;

/** Groups of paths of a part that are judged by themselves; what comes after them counts for the part alone. */
export const mostPaths = 20;
/** Parts that are judged. */
const mostParts = 20;
/** Of copies that must be equal so many may differ: between the two something may have happened. */
const differShare = 0.01;
/** What a p95 means. */
const slowShare = 0.05;

const keyOf = ({ figure, part, path }: Pick<SliceCount, 'figure' | 'part' | 'path'>): string =>
  `${figure} ${part} ${path}`;
const splitKey = (key: string): Pick<SliceCount, 'figure' | 'part' | 'path'> => {
  const [figure = '', part = '', path = ''] = key.split(' ');
  return { figure: figure as CutoverFigure, part, path };
};

const plus = (a: Side, b: Side | null): Side => (b ? { units: a.units + b.units, bad: a.bad + b.bad } : a);
const none: Side = { units: 0, bad: 0 };

/** Adds slices to the tests; what would be a group or a part too many is left out, whatever it says. */
export function addSlices(tests: CutoverTests, slices: readonly SliceCount[], guard: GuardPlan | null): CutoverTests {
  const next = { ...tests };
  let room: ((one: SliceCount) => boolean) | null = null;
  for (const one of slices) {
    const key = keyOf(one);
    const before = next[key];
    if (!before) {
      room ??= openRoom(next);
      if (!room(one)) continue;
    }
    const test = before ?? { weight: noWeight, reverse: noWeight, old: none, now: none };
    next[key] = {
      weight: weighed(test.weight, one, guard),
      reverse: one.old && besides.includes(one.figure) ? weighBeside(test.reverse, one.now, one.old) : test.reverse,
      old: plus(test.old, one.old),
      now: plus(test.now, one.now),
    };
  }
  return next;
}

/** How many parts of each figure, and groups of paths of each of its parts, there are: counted once, and on with each that comes. */
function openRoom(tests: CutoverTests): (one: SliceCount) => boolean {
  const counts = new Map<string, number>();
  const placeOf = ({ figure, part, path }: Pick<SliceCount, 'figure' | 'part' | 'path'>) =>
    path === '' ? figure : `${figure} ${part}`;
  const add = (place: string) => counts.set(place, (counts.get(place) ?? 0) + 1);
  for (const key of Object.keys(tests)) add(placeOf(splitKey(key)));
  return (one) => {
    const place = placeOf(one);
    if ((counts.get(place) ?? 0) >= (one.path === '' ? mostParts : mostPaths)) return false;
    add(place);
    return true;
  };
}

/** The share of answers that may be bad; null: there is no bound of this. */
const boundFor = (figure: CutoverFigure, guard: GuardPlan | null): number | null =>
  figure === 'rate'
    ? (guard?.errors ?? null)
    : figure === 'same'
      ? differShare
      : figure === 'p95' && guard?.p95Ms != null
        ? slowShare
        : null;

function weighed(weight: Weight, { figure, old, now }: SliceCount, guard: GuardPlan | null): Weight {
  if (besides.includes(figure)) return old ? weighBeside(weight, old, now) : weight;
  const bound = boundFor(figure, guard);
  return bound === null ? weight : weighBound(weight, bound, now);
}

/** How many tests share the chance of a false alarm, for one of them: half of it is for the parts as wholes, half for their groups of paths. */
const testsFor = (path: string, parts: number): number =>
  cutoverFigures.length * Math.max(1, parts) * (path === '' ? 2 : 2 * mostPaths);

const rate = ({ units, bad }: Side): number => (units > 0 ? bad / units : 0);

export interface Worse {
  figure: CutoverFigure;
  part: string;
  path: string;
  /** Than the old one beside it, or than a bound. */
  than: 'old' | 'bound';
  now: Side;
  old: Side;
}

/** Units of the old side from which on its own rate says something of a bound. */
const saysEnough = 20;

/** The first sign that the new release is worse, the strongest one; null: there is none. */
export function worst(tests: CutoverTests, { parts, guard }: { parts: number; guard: GuardPlan | null }): Worse | null {
  let found: { worse: Worse; weight: number } | null = null;
  for (const [key, test] of Object.entries(tests)) {
    const { figure, part, path } = splitKey(key);
    const share = testsFor(path, parts);
    if (!isWorse(test.weight, share)) continue;
    const bound = boundFor(figure, guard);
    if (bound !== null && brokenByOld(test, bound)) continue;
    const weight = evidence(test.weight) - Math.log(share / falseAlarms);
    if (found && found.weight >= weight) continue;
    const than = bound === null ? 'old' : 'bound';
    found = { worse: { figure, part, path, than, now: test.now, old: test.old }, weight };
  }
  return found?.worse ?? null;
}

/** A bound that the old release breaks in the same minutes does not count: a fix could never go out. */
const brokenByOld = ({ old }: CutoverTest, bound: number): boolean => old.units >= saysEnough && rate(old) > bound;

/**
 * Which of the two does better where both have a share for as long as wanted: the other one has shown a sign that it is worse. Null:
 * none has, or each has, in something. Any number of looks is allowed, as in `worst`; for each way 1 % of chance.
 */
export function betterOf(tests: CutoverTests, { parts }: { parts: number }): 'now' | 'old' | null {
  const signs = { now: false, old: false };
  for (const [key, test] of Object.entries(tests)) {
    const { figure, path } = splitKey(key);
    if (!besides.includes(figure)) continue;
    const share = testsFor(path, parts);
    if (isWorse(test.weight, share)) signs.now = true;
    if (isWorse(test.reverse, share)) signs.old = true;
  }
  return signs.now === signs.old ? null : signs.now ? 'old' : 'now';
}

/** Bad units that are to be expected on the new side where it is as good: above it a doubling is seen in 99 of 100 cases. */
const enoughBad = 60;

/** There was so much traffic on the new side that twice as many slow answers would have been seen. */
export function enoughToJudge(tests: CutoverTests): boolean {
  return Object.entries(tests).some(([key, { now }]) => {
    const { figure, path } = splitKey(key);
    return figure === 'slow' && path === '' && now.units * slowShare >= enoughBad;
  });
}

export interface TestRow {
  figure: CutoverFigure;
  part: string;
  path: string;
  old: Side;
  now: Side;
  /** How far it is to a sign, 0 to 1. */
  towards: number;
  /** Times as bad that would be seen with 99 of 100 by now; null: none of those that are looked for. */
  wouldSee: number | null;
  /** Where nothing was bad so far: the share of the new side that would be a sign, 0 to 1; null: something was. */
  signAt: number | null;
}

/** How much of the new side would have to be bad for a sign, were all of it bad at once and nothing of the old side. */
function signAt({ weight, old, now }: CutoverTest, figure: CutoverFigure, tests: number): number | null {
  if ((figure !== 'errors' && figure !== 'slow') || old.units === 0) return null;
  for (let bad = 1; bad <= Math.min(now.units, 100); bad++)
    if (isWorse(weighBeside(weight, { units: old.units, bad: 0 }, { units: now.units, bad }), tests))
      return bad / now.units;
  return null;
}

const looked = [2, 3, 5, 10] as const;
const slicesPlayed = 24;

/** Each test as people see it: the parts first, then the paths with the most traffic. `share`: of the traffic, on the new side. */
export function testRows(tests: CutoverTests, { parts, share }: { parts: number; share: number }): TestRow[] {
  return Object.entries(tests)
    .map(([key, test]): TestRow => {
      const { figure, part, path } = splitKey(key);
      const count = testsFor(path, parts);
      const expected = test.now.units * rate(plus(test.old, test.now));
      const seen =
        share > 0 && share < 1 && expected > 0 && (figure === 'errors' || figure === 'slow')
          ? looked.find((ratio) => seenIn100({ expected, share, ratio, slices: slicesPlayed, tests: count }) >= 99)
          : undefined;
      return {
        figure,
        part,
        path,
        old: test.old,
        now: test.now,
        towards: towards(test.weight, count),
        wouldSee: seen ?? null,
        signAt: expected === 0 && share > 0 && share < 1 ? signAt(test, figure, count) : null,
      };
    })
    .sort((a, b) => Number(a.path !== '') - Number(b.path !== '') || b.now.units - a.now.units);
}
