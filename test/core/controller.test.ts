/** The number of instances under loads as they come: it settles, and does not swing. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { controlled, type Load } from '../../src/core/scale/controller.js';

const auto = { min: 1, max: 8, cpu: 0.7 };
/** Seconds that an instance takes to be ready. */
const startSeconds = 15;

interface World {
  /** Cores that are asked for at a time. */
  load: (second: number) => number;
  seconds: number;
  each?: number;
  /** Instances that never become ready. */
  broken?: number;
}

/** Plays it in slots of ten seconds; gives the count after each, and what was asked for and could not be done. */
function play({ load, seconds, each = 1, broken = 0 }: World): { counts: number[]; refused: number[] } {
  let count = auto.min;
  let changedAt: number | null = null;
  let begun: number[] = [Number.NEGATIVE_INFINITY];
  const loads: Load[] = [];
  const counts: number[] = [];
  const refused: number[] = [];
  for (let now = 0; now < seconds; now += 10) {
    const up = begun.filter((since) => now - since >= startSeconds).length;
    const ready = Math.min(up, Math.max(0, count - broken) || 1);
    const asked = load(now);
    const done = Math.min(asked, ready * each);
    refused.push(asked - done);
    loads.push({ at: now, cores: done });
    const next = controlled({
      now: now + 10,
      auto,
      count,
      ready,
      each,
      loads: loads.filter((one) => one.at >= now + 10 - 300),
      changedAt,
    });
    if (next !== count) changedAt = now + 10;
    begun = next > count ? [...begun, ...Array<number>(next - count).fill(now + 10)] : begun.slice(0, next);
    count = next;
    counts.push(count);
  }
  return { counts, refused };
}
const changes = (counts: readonly number[]) => counts.filter((one, at) => at > 0 && one !== counts[at - 1]).length;
/** The same noise each time. */
const noise = (second: number) =>
  Math.sin(second * 12.9898) * 43_758.5453 - Math.floor(Math.sin(second * 12.9898) * 43_758.5453) - 0.5;

describe('the number of instances', () => {
  it('follows a step up within minutes, and stays', () => {
    const { counts, refused } = play({ load: (now) => (now < 600 ? 0.4 : 3.2), seconds: 3_600 });
    expect(counts[50]).toBe(1);
    expect(counts.at(-1)).toBe(5);
    // One, two, four, five.
    expect(changes(counts)).toBeLessThanOrEqual(4);
    expect(refused.slice(90).every((one) => one < 0.01)).toBe(true);
  });
  it('goes down when nothing has asked for as many for five minutes, by halves', () => {
    const { counts } = play({ load: (now) => (now < 900 ? 4.2 : 0.2), seconds: 4_000 });
    expect(counts[85]).toBe(6);
    expect(counts[90 + 20]).toBe(6);
    expect(counts.at(-1)).toBe(1);
    expect([...counts.slice(90)].sort((a, b) => b - a)).toEqual(counts.slice(90));
  });
  it('does not swing under noise', () => {
    for (const level of [0.3, 0.69, 1.0, 1.4, 2.1, 2.75, 4.9]) {
      const { counts } = play({ load: (now) => level * (1 + 0.3 * noise(now)), seconds: 7_200 });
      // After it has settled it is changed once more at most: where the noise lies across a bound.
      expect([level, changes(counts.slice(120))]).toEqual([level, expect.any(Number)]);
      expect(changes(counts.slice(120))).toBeLessThanOrEqual(1);
    }
  });
  it('follows a ramp in steps, each upwards, and a wave without going down in each trough', () => {
    const ramp = play({ load: (now) => now / 600, seconds: 3_000 });
    expect([...ramp.counts].sort((a, b) => a - b)).toEqual(ramp.counts);
    expect(ramp.refused.reduce((sum, one) => sum + one, 0)).toBeLessThan(2);
    const wave = play({ load: (now) => 2 + 1.5 * Math.sin((now / 240) * 2 * Math.PI), seconds: 7_200 });
    expect(changes(wave.counts.slice(90))).toBeLessThanOrEqual(1);
  });
  it('does not run away when an instance never becomes ready', () => {
    const { counts } = play({ load: () => 1.5, seconds: 3_600, broken: 1 });
    expect(Math.max(...counts)).toBeLessThanOrEqual(3);
    expect(changes(counts)).toBeLessThanOrEqual(2);
  });
  it('stays between its bounds, and decides nothing without figures', () => {
    const facts = fc.record({
      now: fc.constant(10_000),
      auto: fc.record({
        min: fc.integer({ min: 1, max: 4 }),
        max: fc.integer({ min: 4, max: 9 }),
        cpu: fc.double({ min: 0.05, max: 1, noNaN: true }),
      }),
      count: fc.integer({ min: 0, max: 20 }),
      ready: fc.nat(20),
      each: fc.double({ min: 0.05, max: 8, noNaN: true }),
      loads: fc.array(
        fc.record({
          at: fc.integer({ min: 970, max: 999 }).map((ten) => ten * 10),
          cores: fc.double({ min: 0, max: 100, noNaN: true }),
        }),
        { maxLength: 30 },
      ),
      changedAt: fc.option(fc.integer({ min: 9_000, max: 10_000 })),
    });
    fc.assert(
      fc.property(facts, (given) => {
        const count = controlled(given);
        expect(count).toBeGreaterThanOrEqual(given.auto.min);
        expect(count).toBeLessThanOrEqual(given.auto.max);
        const inside = given.count >= given.auto.min && given.count <= given.auto.max;
        if (inside && given.loads.length < 3) expect(count).toBe(given.count);
        if (inside) expect(count).toBeLessThanOrEqual(given.count * 2);
      }),
    );
  });
});
