import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { costOf, forecast, moneyText, monthOf, savedBySleep } from '../../src/core/cost/cost.js';
import { monthHours, monthAhead } from '../../src/core/cost/month-ahead.js';
import { reckonedMemory, type Size } from '../../src/core/scale/sizes.js';

const hour = 3_600_000;
const { from, until } = monthOf(Date.UTC(2026, 1, 14, 12));

describe('what an environment would cost', () => {
  const size = (change: Partial<Size>): Size => ({ instances: 1, auto: null, memory: null, cpu: null, ...change });
  const prices = { currency: 'EUR', memory: 2, cpu: 3 };
  it('is its memory for a month, and all the processor that it may take', () => {
    const gib = 1024 ** 3;
    expect(
      monthAhead([size({ instances: 2, memory: gib, cpu: 0.5 }), size({ memory: gib / 2, cpu: 1 })], prices),
    ).toEqual({
      memory: 2.5 * 2 * monthHours,
      processorAtMost: 2 * 3 * monthHours,
    });
    expect(monthAhead([], prices)).toEqual({ memory: 0, processorAtMost: 0 });
  });
  it('has no bound where a part has none, unless none of it runs', () => {
    expect(monthAhead([size({})], prices)).toEqual({
      memory: (reckonedMemory / 1024 ** 3) * 2 * monthHours,
      processorAtMost: null,
    });
    expect(monthAhead([size({ instances: 0 })], prices).processorAtMost).toBe(0);
  });
  it('grows with each instance', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 50 }), fc.double({ min: 0.05, max: 64, noNaN: true }), (instances, cpu) => {
        const of = (count: number) => monthAhead([size({ instances: count, cpu })], prices);
        expect(of(instances + 1).memory).toBeGreaterThan(of(instances).memory);
        expect(of(instances + 1).processorAtMost ?? 0).toBeGreaterThan(of(instances).processorAtMost ?? 0);
      }),
    );
  });
});

describe('what an environment costs', () => {
  it('is what it took, at the prices', () => {
    expect(costOf({ memory: 10, cpu: 2 }, { currency: 'EUR', memory: 0.01, cpu: 0.05 })).toBeCloseTo(0.2);
  });
  it('is of a month by UTC, long or short', () => {
    expect([new Date(from).toISOString(), (until - from) / (24 * hour)]).toEqual(['2026-02-01T00:00:00.000Z', 28]);
    expect(monthOf(Date.UTC(2026, 11, 31, 23)).until).toBe(Date.UTC(2027, 0, 1));
  });
  it('is foretold from when there was something to count', () => {
    expect(forecast(10, from, from + 14 * 24 * hour, until)).toBeCloseTo(20);
    // Made in the middle: not as if it had been there all the month.
    const middle = from + 14 * 24 * hour;
    expect(forecast(1, middle, middle + 24 * hour, until)).toBeCloseTo(14);
    expect(forecast(3, from, until, until)).toBe(3);
  });
  it('is never foretold as less than it is', () => {
    const amount = fc.double({ min: 0, max: 1e6, noNaN: true });
    fc.assert(
      fc.property(amount, fc.nat(672), fc.nat(672), (soFar, a, b) => {
        const [since, counted] = [from + Math.min(a, b) * hour, from + Math.max(a, b) * hour];
        return forecast(soFar, since, counted, until) >= soFar;
      }),
    );
  });
  it('is said with its currency', () => {
    expect([moneyText(12.4, 'EUR'), moneyText(0.0123, 'JPY')]).toEqual(['12.40 EUR', '0.0123 JPY']);
  });
});

describe('the sleep of a review', () => {
  it('has saved the hours in which nothing of it ran, at the price of those in which something did', () => {
    const [hour, since] = [3_600_000, Date.UTC(2026, 10, 1)];
    // Ten hours of which four were awake, at two a hour.
    expect(savedBySleep(8, 4, since, since + 10 * hour)).toBeCloseTo(12, 9);
    expect(savedBySleep(8, 4, since, since + 4 * hour)).toBe(0);
    // What was never awake has cost nothing, and saves nothing; a closed one saves nothing any more.
    expect(savedBySleep(0, 0, since, since + 10 * hour)).toBe(0);
    expect(savedBySleep(8, 4, since, since - hour)).toBe(0);
  });
});
