/** Times in buckets, figures rolled up, lines over time. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { chart, type Figure, resolution, rollUp, steps } from '../../src/core/figures/figures.js';
import { add, boundOf, bucketOf, buckets, count, type Histogram, quantile } from '../../src/core/figures/histogram.js';

const of = (times: readonly number[]): Histogram => {
  const histogram: Histogram = [];
  for (const ms of times) count(histogram, ms);
  return histogram;
};
// Up to ten minutes: the last bucket holds whatever took longer, and there nothing is promised.
const times = fc.array(fc.double({ min: 0, max: 600_000, noNaN: true }), { minLength: 1, maxLength: 200 });

describe('a histogram', () => {
  it('has every time in the bucket whose bounds it lies between', () => {
    fc.assert(
      fc.property(fc.double({ min: 0, max: 1e7, noNaN: true }), (ms) => {
        const at = bucketOf(ms);
        expect(ms).toBeLessThanOrEqual(boundOf(at) * (1 + 1e-6));
        if (at > 0) expect(ms).toBeGreaterThan(boundOf(at - 1) * (1 - 1e-6));
      }),
    );
    expect([bucketOf(0), bucketOf(0.5), bucketOf(1e9), boundOf(buckets - 1)]).toEqual([
      0,
      0,
      buckets - 1,
      Number.POSITIVE_INFINITY,
    ]);
  });
  it('says quantiles within a fourth of what they are', () => {
    fc.assert(
      fc.property(times, fc.constantFrom(0.5, 0.95, 0.99), (list, share) => {
        const sorted = [...list].sort((a, b) => a - b);
        const real = sorted[Math.max(0, Math.ceil(share * sorted.length) - 1)] as number;
        const said = quantile(of(list), share) as number;
        // What floating point loses at the bound of a bucket is no quantile.
        expect(said).toBeGreaterThanOrEqual((real / 1.25) * (1 - 1e-9) - 0.5);
        expect(said).toBeLessThanOrEqual(real * 1.25 * (1 + 1e-9) + 0.5);
      }),
    );
    expect(quantile([], 0.5)).toBeNull();
  });
  it('is added like what it counts', () => {
    fc.assert(
      fc.property(times, times, (a, b) => {
        expect(add(of(a), of(b))).toEqual(of([...a, ...b]));
      }),
    );
  });
});

const figure = (change: Partial<Figure> = {}): Figure => ({
  at: 0,
  environment: 'e',
  deployment: 1,
  part: 'api',
  instance: 'i',
  requests: 10,
  errors: 1,
  bytes: 100,
  times: of([10, 20]),
  cpu: 500,
  memory: 1_000,
  ...change,
});

describe('figures', () => {
  it('are added when they are rolled up; memory is the most of an instance, and the sum over them', () => {
    const list = [figure(), figure({ at: 50, memory: 3_000 }), figure({ instance: 'k' })];
    const minute = rollUp(list, 60);
    expect(minute.map((one) => [one.at, one.instance, one.requests, one.cpu, one.memory])).toEqual([
      [0, 'i', 20, 1_000, 3_000],
      [0, 'k', 10, 500, 1_000],
    ]);
    expect(rollUp(minute, 3_600)).toMatchObject([{ at: 0, instance: '', requests: 30, errors: 3, memory: 4_000 }]);
  });
  it('come to the same in hours, whether over minutes or at once', () => {
    const any = fc.array(
      fc.record({
        at: fc.integer({ min: 0, max: 700 }).map((ten) => ten * 10),
        instance: fc.constantFrom('i', 'k', ''),
        requests: fc.nat(100),
        times: times.map(of),
      }),
      { maxLength: 40 },
    );
    const sums = (list: Figure[]) => {
      const all = new Map<number, [number, Histogram]>();
      for (const one of list) {
        const [requests, histogram] = all.get(one.at) ?? [0, []];
        all.set(one.at, [requests + one.requests, add(histogram, one.times)]);
      }
      return [...all].sort((a, b) => a[0] - b[0]);
    };
    fc.assert(
      fc.property(any, (list) => {
        const figures = list.map((one) => figure(one));
        expect(sums(rollUp(rollUp(figures, 60), 3_600))).toEqual(sums(rollUp(figures, 3_600)));
      }),
    );
  });
  it('become lines with a value a point, and none where nothing was counted', () => {
    const list = [
      figure({ at: 100 }),
      figure({ at: 110, instance: 'k', deployment: 2 }),
      figure({ at: 130, errors: 0 }),
    ];
    const [line] = chart(list, { from: 100, width: 20, points: 3, by: 'part' });
    expect(line).toMatchObject({
      part: 'api',
      instance: null,
      requests: [1, 0.5, null],
      errors: [0.1, 0, null],
      cpu: [0.05, 0.025, null],
      memory: [2_000, 1_000, null],
      whole: { requests: 0.5, errors: 2 / 30, cpu: 0.025, memory: 2_000 },
    });
    // What the whole span comes to is what one wide point would show, and begins where anything is known.
    const [one] = chart(list, { from: 100, width: 60, points: 1, by: 'part' });
    expect([line?.whole.p50, line?.whole.p95, line?.whole.p99]).toEqual([one?.p50[0], one?.p95[0], one?.p99[0]]);
    const [late] = chart(list, { from: 40, width: 20, points: 6, by: 'part' });
    expect(late?.whole).toEqual(line?.whole);
    expect(chart(list, { from: 100, width: 20, points: 3, by: 'instance' }).map((one) => one.instance)).toEqual([
      'i',
      'k',
    ]);
  });
  it('have as many points as a chart can bear, each a whole number of steps', () => {
    fc.assert(
      fc.property(fc.integer({ min: 60, max: 31 * 86_400 }), (span) => {
        const { step, width } = resolution(span);
        expect(steps).toContain(step);
        expect(width % step).toBe(0);
        expect(span / width).toBeLessThanOrEqual(360);
      }),
    );
    expect(resolution(3_600)).toEqual({ step: 10, width: 10 });
    expect(resolution(30 * 86_400)).toEqual({ step: 3_600, width: 7_200 });
  });
});
