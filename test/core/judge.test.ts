/** The test that judges a cutover, by simulated traffic: how often it blames a good release, and what it sees of a bad one. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  evidence,
  falseAlarms,
  isWorse,
  noWeight,
  seenIn100,
  towards,
  type Weight,
  weighBeside,
  weighBound,
} from '../../src/core/cutover/judge.js';

/** Numbers from 0 to 1 that are the same each time. */
function drawing(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    return state / 4_294_967_296;
  };
}
/** How many of so many come, each with this chance. */
function among(units: number, chance: number, draw: () => number): number {
  let count = 0;
  // By the pauses between those that come: most do not.
  for (let at = Math.floor(Math.log(1 - draw()) / Math.log(1 - chance)); at < units; count++)
    at += 1 + Math.floor(Math.log(1 - draw()) / Math.log(1 - chance));
  return count;
}

interface Traffic {
  slices: number;
  /** Units of a slice, of both sides. */
  units: number;
  share: number;
  old: number;
  now: number;
}

/** Plays one cutover; gives whether the release was blamed at any look. */
function blamed({ slices, units, share, old, now }: Traffic, tests: number, draw: () => number): boolean {
  let weight: Weight = noWeight;
  for (let slice = 0; slice < slices; slice++) {
    const fresh = Math.round(units * share);
    weight = weighBeside(
      weight,
      { units: units - fresh, bad: among(units - fresh, old, draw) },
      { units: fresh, bad: among(fresh, now, draw) },
    );
    if (isWorse(weight, tests)) return true;
  }
  return false;
}
const share = (plays: number, play: (draw: () => number) => boolean): number => {
  const draw = drawing(20_261_128);
  let count = 0;
  for (let at = 0; at < plays; at++) if (play(draw)) count++;
  return count / plays;
};

describe('a release beside another one', () => {
  it('that is as good is blamed in fewer than one of a hundred cases, however often it is looked at', () => {
    for (const [part, rate] of [
      [0.1, 0.02],
      [0.5, 0.02],
      [0.1, 0.001],
    ] as const)
      expect(
        share(10_000, (draw) => blamed({ slices: 24, units: 200, share: part, old: rate, now: rate }, 1, draw)),
      ).toBeLessThan(falseAlarms);
  });

  it('that is better is blamed less still', () => {
    expect(
      share(3_000, (draw) => blamed({ slices: 24, units: 400, share: 0.2, old: 0.03, now: 0.01 }, 1, draw)),
    ).toBeLessThan(falseAlarms / 5);
  });

  it('that is twice as bad is caught in 99 of 100 cases where 60 bad answers were to be expected', () => {
    // 60 of the new side at the rate of the old one: 24 slices of 500 units, of which a tenth is new, a twentieth of them bad.
    const traffic = { slices: 24, units: 500, share: 0.1, old: 0.05, now: 0.1 };
    expect(traffic.slices * traffic.units * traffic.share * traffic.old).toBeCloseTo(60);
    expect(share(2_000, (draw) => blamed(traffic, 3, draw))).toBeGreaterThanOrEqual(0.985);
    expect(seenIn100({ expected: 60, share: 0.1, ratio: 2, slices: 24, tests: 3 })).toBeGreaterThanOrEqual(98);
    expect(seenIn100({ expected: 10, share: 0.1, ratio: 2, slices: 24, tests: 3 })).toBeLessThan(40);
    expect(seenIn100({ expected: 20, share: 0.1, ratio: 3, slices: 24, tests: 3 })).toBeGreaterThanOrEqual(97);
  });

  it('is not blamed for visitors who ask again and again, where each of them counts once', () => {
    /** Some ask five times where it fails, all on the side on which they are. */
    const bursts = (counts: 'visitors' | 'requests') => (draw: () => number) => {
      let weight: Weight = noWeight;
      for (let slice = 0; slice < 24; slice++) {
        const fresh = 40;
        const [old, now] = [among(400 - fresh, 0.01, draw), among(fresh, 0.01, draw)];
        const times = counts === 'visitors' ? 1 : 5;
        weight = weighBeside(weight, { units: 400 - fresh, bad: old * times }, { units: fresh, bad: now * times });
        if (isWorse(weight, 3)) return true;
      }
      return false;
    };
    expect(share(4_000, bursts('visitors'))).toBeLessThan(falseAlarms);
    expect(share(1_000, bursts('requests'))).toBeGreaterThan(0.05);
  });

  it('says nothing by slices without anything bad, or with one side alone', () => {
    fc.assert(
      fc.property(fc.nat(10_000), fc.nat(10_000), fc.nat(100), (old, now, bad) => {
        expect(weighBeside(noWeight, { units: old, bad: 0 }, { units: now, bad: 0 })).toEqual(noWeight);
        expect(weighBeside(noWeight, { units: 0, bad: 0 }, { units: now, bad }).every((one) => one === 0)).toBe(true);
        expect(weighBeside(noWeight, { units: old, bad }, { units: 0, bad: 0 }).every((one) => one === 0)).toBe(true);
      }),
    );
  });

  it('has the same weight by one long slice as by many short ones of the same share', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(fc.nat(9), fc.nat(9)), { minLength: 1, maxLength: 30 }), (slices) => {
        const side = (units: number, bad: number) => ({ units, bad });
        const short = slices.reduce<Weight>(
          (weight, [old, now]) => weighBeside(weight, side(900, old), side(100, now)),
          noWeight,
        );
        const sum = (at: 0 | 1) => slices.reduce((all, one) => all + one[at], 0);
        const long = weighBeside(noWeight, side(900 * slices.length, sum(0)), side(100 * slices.length, sum(1)));
        expect(evidence(short)).toBeCloseTo(evidence(long), 6);
      }),
    );
  });

  it('stays a number however much there is, and the bar fills from 0 to 1', () => {
    let weight: Weight = noWeight;
    expect(towards(weight, 3)).toBe(0);
    for (let slice = 0; slice < 2_000; slice++)
      weight = weighBeside(weight, { units: 1e6, bad: 0 }, { units: 1e5, bad: 5_000 });
    expect(Number.isFinite(evidence(weight))).toBe(true);
    expect(towards(weight, 3)).toBe(1);
  });
});

describe('a bound', () => {
  const blamedBy = (rate: number, bound: number, units: number) => (draw: () => number) => {
    let weight: Weight = noWeight;
    for (let slice = 0; slice < 24; slice++) {
      weight = weighBound(weight, bound, { units, bad: among(units, rate, draw) });
      if (isWorse(weight, 3)) return true;
    }
    return false;
  };
  it('that is kept, even only just, blames in fewer than one of a hundred cases', () => {
    expect(share(5_000, blamedBy(0.01, 0.01, 40))).toBeLessThan(falseAlarms);
    expect(share(5_000, blamedBy(0.05, 0.05, 40))).toBeLessThan(falseAlarms);
  });
  it('is not broken by one bad answer of twenty, and is by many', () => {
    expect(isWorse(weighBound(noWeight, 0.01, { units: 20, bad: 1 }), 3)).toBe(false);
    expect(isWorse(weighBound(noWeight, 0.01, { units: 400, bad: 20 }), 3)).toBe(true);
    expect(share(1_000, blamedBy(0.05, 0.01, 40))).toBeGreaterThan(0.99);
  });
  it('near to all is tested by the degrees that there are', () => {
    const weight = weighBound(noWeight, 0.5, { units: 100, bad: 90 });
    expect(weight.filter((one) => one !== 0)).toHaveLength(1);
    expect(isWorse(weight, 1)).toBe(true);
  });
});
