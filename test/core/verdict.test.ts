/** The verdict on a new release beside the old one, from what edges count in slices: simulated traffic, with a seed. */
import { describe, expect, it } from '@jest/globals';
import { drawing } from '../../src/core/cutover/judge.js';
import { openSlices, pathGroup } from '../../src/core/cutover/slices.js';
import {
  addSlices,
  betterOf,
  type CutoverTests,
  enoughToJudge,
  type GuardPlan,
  mostPaths,
  type SliceCount,
  testRows,
  worst,
} from '../../src/core/cutover/verdict.js';

// Looked up once: it is asked for millions of times.
const { floor } = Math;

interface World {
  /** Of the traffic, on the new side. */
  share: number;
  visitors: number;
  slices: number;
  /** Chance that a request of each side is an error. */
  old: number;
  now: number;
  /** Whoever meets an error tries again so often. */
  retries: number;
  /** Each request is drawn anew: nobody keeps a cookie. */
  alone?: boolean;
}

/** One cutover through the counting of an edge; the time of its first sign, or null. */
function play(world: World, draw: () => number, guard: GuardPlan | null = null): number | null {
  let clock = 0;
  const slices = openSlices({ beside: true, boundMs: null, now: () => clock });
  let tests: CutoverTests = {};
  const limit = world.share * 10_000;
  for (let slice = 0; slice < world.slices; slice++) {
    for (let at = 0; at < world.visitors; at++) {
      const number = floor(draw() * 10_000);
      const side = number < limit ? 'now' : 'old';
      const bad = draw() < world[side];
      for (let time = 0; time <= (bad ? world.retries : 0); time++)
        slices.take({
          side,
          part: 'api',
          path: '/api/sailings',
          instance: side,
          visitor: world.alone ? null : number,
          error: bad,
          ms: 5,
        });
    }
    clock += 5_000;
    tests = addSlices(tests, slices.turn(), guard);
    if (worst(tests, { parts: 1, guard })) return slice;
  }
  return null;
}

describe('a verdict on errors', () => {
  const world: World = { share: 0.1, visitors: 60, slices: 24, old: 0.02, now: 0.02, retries: 0 };

  it('blames a good release in fewer than 1 of 100 cases, also with visitors who retry in bursts', () => {
    const draw = drawing(7);
    const alarms = (releases: number, more: Partial<World>) => {
      let blamed = 0;
      for (let at = 0; at < releases; at++) if (play({ ...world, ...more }, draw) !== null) blamed++;
      return blamed / releases;
    };
    // What is counted in bursts goes through ten thousand releases, which takes its time; the rest through fewer.
    expect(alarms(10_000, { retries: 5, visitors: 30, old: 0.04, now: 0.04 })).toBeLessThan(0.01);
    expect(alarms(1_500, {})).toBeLessThan(0.01);
    expect(alarms(1_500, { share: 0.5, retries: 5 })).toBeLessThan(0.01);
  });

  it('sees a release that errs much more often in its first share', () => {
    const draw = drawing(11);
    const seen = Array.from({ length: 60 }, () => play({ ...world, visitors: 200, old: 0.001, now: 0.05 }, draw));
    expect(seen.every((slice) => slice !== null)).toBe(true);
  });

  it('sees it also where nobody keeps a cookie', () => {
    const draw = drawing(13);
    const all = { ...world, visitors: 200, old: 0.001, now: 0.05, alone: true };
    expect(Array.from({ length: 40 }, () => play(all, draw)).every((slice) => slice !== null)).toBe(true);
  });

  it('holds it against a bound, unless the old one breaks that in the same minutes', () => {
    const guard: GuardPlan = { errors: 0.01, p95Ms: null, few: 'continue' };
    const count = (bad: number, old: { units: number; bad: number } | null): SliceCount[] => [
      { figure: 'rate', part: 'api', path: '', old, now: { units: 1_000, bad } },
    ];
    const judged = (slices: SliceCount[]) => worst(addSlices({}, slices, guard), { parts: 1, guard });
    expect(judged(count(60, null))).toMatchObject({ than: 'bound', figure: 'rate', part: 'api', now: { bad: 60 } });
    expect(judged(count(12, null))).toBeNull();
    // One bad of twenty is no 5 %.
    expect(judged([{ figure: 'rate', part: 'api', path: '', old: null, now: { units: 20, bad: 1 } }])).toBeNull();
    expect(judged(count(60, { units: 9_000, bad: 540 }))).toBeNull();
    expect(judged(count(60, { units: 9_000, bad: 45 }))).toMatchObject({ part: 'api', old: { bad: 45 } });
  });

  it('says which of two does better, and of two that are alike that none does', () => {
    const play = (old: number, now: number): CutoverTests =>
      addSlices(
        {},
        [{ figure: 'errors', part: 'api', path: '', old: { units: 5_000, bad: old }, now: { units: 5_000, bad: now } }],
        null,
      );
    const judged = (old: number, now: number) => betterOf(play(old, now), { parts: 1 });
    expect([judged(100, 20), judged(20, 100), judged(50, 52), judged(0, 0)]).toEqual(['now', 'old', null, null]);
  });

  it('has room for so many parts and paths, and leaves out what comes after them', () => {
    const counts = Array.from(
      { length: 40 },
      (_, at): SliceCount => ({
        figure: 'errors',
        part: 'api',
        path: `/${'x'.repeat(at + 1)}`,
        old: { units: 1, bad: 0 },
        now: { units: 1, bad: 0 },
      }),
    );
    expect(Object.keys(addSlices({}, counts, null))).toHaveLength(mostPaths);
  });

  it('says what would be seen, and whether that is enough', () => {
    const counts = (units: number): SliceCount[] => [
      {
        figure: 'slow',
        part: 'api',
        path: '',
        old: { units: units * 9, bad: units * 0.45 },
        now: { units, bad: units / 20 },
      },
    ];
    const few = addSlices({}, counts(100), null);
    const many = addSlices({}, counts(4_000), null);
    expect([enoughToJudge(few), enoughToJudge(many)]).toEqual([false, true]);
    const row = (tests: CutoverTests) => testRows(tests, { parts: 1, share: 0.1 })[0];
    expect(row(many)?.wouldSee).toBe(2);
    expect(row(few)?.wouldSee ?? 99).toBeGreaterThan(2);
    expect(row(many)?.towards).toBeLessThan(1);
  });
});

describe('slices', () => {
  const at = (more: object = {}) => ({
    side: 'now' as const,
    part: 'api',
    path: '/api',
    instance: 'i',
    visitor: 7,
    error: true,
    ms: 5,
    ...more,
  });
  const whole = (counts: SliceCount[], figure: string) =>
    counts.find((one) => one.figure === figure && one.path === '');

  it('count a visitor once, and bad at most once in a stage', () => {
    const slices = openSlices({ beside: true, boundMs: null, now: () => 0 });
    for (let time = 0; time < 5; time++) slices.take(at());
    slices.take(at({ visitor: 8, error: false }));
    slices.take(at({ visitor: null, error: false }));
    slices.take(at({ visitor: null }));
    expect(whole(slices.turn(), 'errors')).toMatchObject({ now: { units: 4, bad: 2 }, old: { units: 0, bad: 0 } });
    slices.take(at());
    slices.take(at({ visitor: 8 }));
    expect(whole(slices.turn(), 'errors')).toMatchObject({ now: { units: 1, bad: 1 } });
    expect(slices.turn()).toEqual([]);
  });

  it('hold times against what the old side had before, and not those of a program that has just begun', () => {
    let clock = 0;
    const slices = openSlices({ beside: true, boundMs: 100, now: () => clock });
    const answers = (side: 'old' | 'now', count: number, ms: number) => {
      for (let one = 0; one < count; one++) slices.take(at({ side, instance: side, visitor: null, error: false, ms }));
    };
    answers('old', 300, 10);
    answers('now', 300, 500);
    // Nothing is warm yet.
    expect(whole(slices.turn(), 'p95')).toBeUndefined();
    clock = 31_000;
    answers('old', 300, 10);
    answers('now', 10, 500);
    const second = slices.turn();
    expect(whole(second, 'p95')).toMatchObject({ now: { units: 10, bad: 10 }, old: { units: 300, bad: 0 } });
    expect(whole(second, 'slow')).toBeUndefined();
    answers('old', 300, 10);
    answers('now', 10, 500);
    expect(whole(slices.turn(), 'slow')).toMatchObject({ now: { units: 10, bad: 10 }, old: { units: 300, bad: 0 } });
  });

  it('know in the next step what was known of the programs', () => {
    let clock = 0;
    const first = openSlices({ beside: true, boundMs: 100, now: () => clock });
    const answers = (slices: typeof first, side: 'old' | 'now', count: number, ms: number) => {
      for (let one = 0; one < count; one++) slices.take(at({ side, instance: side, visitor: null, error: false, ms }));
    };
    for (const side of ['old', 'now'] as const) answers(first, side, 60, 10);
    clock = 31_000;
    answers(first, 'old', 200, 10);
    first.turn();
    const second = openSlices({ beside: true, boundMs: 100, now: () => clock, carried: first.carried });
    answers(second, 'now', 10, 500);
    const counts = second.turn();
    expect(whole(counts, 'p95')).toMatchObject({ now: { units: 10, bad: 10 } });
    expect(whole(counts, 'slow')).toMatchObject({ now: { units: 10, bad: 10 } });
  });

  it('are grouped by what paths have in common', () => {
    expect(
      ['/', '/api', '/api/sailings', '/api/sailings/214', '/orders/93a1f0', '/%C3%A9t%C3%A9', `/${'a'.repeat(40)}`].map(
        pathGroup,
      ),
    ).toEqual(['/', '/api', '/api/sailings', '/api/sailings', '/orders/*', '/*', '/*']);
  });
});
