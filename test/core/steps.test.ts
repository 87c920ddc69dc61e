/** The steps of a cutover: forward by time and by hand, back from everywhere, and never anything else. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  advanceCutover,
  type CutoverFacts,
  type CutoverPlan,
  firstStep,
  leftMs,
  parseCutover,
  shareIn,
} from '../../src/core/cutover/steps.js';

const plan = parseCutover(['mirror for 5m', '10% for 2m', '50% for 2m']) as CutoverPlan;
const fewMs = 3_600_000;
const facts = (more: Partial<CutoverFacts>): CutoverFacts => ({
  now: 0,
  plan,
  step: { at: 'mirror' },
  since: 0,
  order: null,
  worse: false,
  enough: true,
  few: 'wait',
  fewMs,
  ...more,
});

describe('the way of the traffic', () => {
  it('is read as it is written', () => {
    expect(plan).toEqual({
      mirrorMs: 300_000,
      shares: [
        { share: 1_000, ms: 120_000 },
        { share: 5_000, ms: 120_000 },
      ],
    });
    expect(parseCutover(['2.5% for 1h'])).toEqual({ mirrorMs: null, shares: [{ share: 250, ms: 3_600_000 }] });
    expect(parseCutover([])).toEqual({ mirrorMs: null, shares: [] });
  });

  it.each([
    [['10 % for 2m'], 'form', 0],
    [['10% for long'], 'form', 0],
    [['10%'], 'form', 0],
    [['10% for 2m', 'mirror for 5m'], 'order', 1],
    [['mirror for 5m', 'mirror for 5m'], 'order', 1],
    [['50% for 2m', '50% for 2m'], 'share', 1],
    [['0% for 2m'], 'share', 0],
    [['0.001% for 2m'], 'form', 0],
    [['100% for 2m'], 'form', 0],
    [['10% for 2s'], 'time', 0],
    [['10% for 2d'], 'time', 0],
    [Array.from({ length: 11 }, (_, at) => `${at + 1}% for 2m`), 'many', 10],
  ])('%j has a fault: %s', (steps, fault, at) => {
    expect(parseCutover(steps)).toEqual({ fault, at });
  });

  it('goes on by time where there was enough to judge by, and waits for that, but not for ever', () => {
    expect(advanceCutover(facts({ now: 299_999 }))).toMatchObject({ step: { at: 'mirror' }, again: 300_000 });
    expect(advanceCutover(facts({ now: 300_000, enough: false }))).toMatchObject({ step: { at: 'share', index: 0 } });
    const share = { step: { at: 'share', index: 1 }, now: 120_000 } as const;
    expect(advanceCutover(facts(share))).toMatchObject({ step: { at: 'all' } });
    const few = advanceCutover(facts({ ...share, enough: false }));
    expect(few).toEqual({ step: share.step, asks: false, again: 120_000 + fewMs });
    expect(advanceCutover(facts({ ...share, enough: false, now: 120_000 + fewMs }))).toEqual({
      step: share.step,
      asks: true,
      again: null,
    });
    expect(advanceCutover(facts({ ...share, enough: false, few: 'continue' }))).toMatchObject({ step: { at: 'all' } });
  });

  it('has so much left, and the new side so much of it', () => {
    expect([leftMs(facts({ now: 60_000 })), shareIn(plan, { at: 'mirror' })]).toEqual([480_000, 0]);
    const share = { at: 'share', index: 0 } as const;
    expect([leftMs(facts({ step: share, now: 30_000 })), shareIn(plan, share)]).toEqual([210_000, 1_000]);
    expect([leftMs(facts({ step: { at: 'all' } })), shareIn(plan, { at: 'all' })]).toEqual([0, 10_000]);
    expect(firstStep({ mirrorMs: null, shares: [] })).toEqual({ at: 'all' });
  });

  it('never gives the new side less but by going back, skips nothing by itself, and goes back whenever it is worse', () => {
    const written = fc
      .tuple(fc.boolean(), fc.uniqueArray(fc.integer({ min: 1, max: 99 }), { maxLength: 6 }))
      .map(
        ([mirror, shares]) =>
          parseCutover([
            ...(mirror ? ['mirror for 1m'] : []),
            ...shares.sort((a, b) => a - b).map((one) => `${one}% for 1m`),
          ]) as CutoverPlan,
      );
    const event = fc.record({
      pass: fc.integer({ min: 0, max: 5_000_000 }),
      order: fc.constantFrom(null, null, null, 'stay', 'go on', 'back') as fc.Arbitrary<CutoverFacts['order']>,
      worse: fc.integer({ min: 0, max: 9 }).map((one) => one === 0),
      enough: fc.boolean(),
    });
    fc.assert(
      fc.property(written, fc.array(event, { maxLength: 30 }), (way, events) => {
        let [step, now, since] = [firstStep(way), 0, 0];
        for (const { pass, ...one } of events) {
          now += pass;
          const before = step;
          const next = advanceCutover({ now, plan: way, step, since, few: 'wait', fewMs, ...one });
          const ended = before.at === 'all' || before.at === 'back';
          if (!ended && (one.worse || one.order === 'back')) expect(next.step).toEqual({ at: 'back' });
          else {
            expect(shareIn(way, next.step)).toBeGreaterThanOrEqual(shareIn(way, before));
            if (before.at === 'share' && next.step.at === 'share')
              expect(next.step.index - before.index).toBeLessThanOrEqual(1);
            if (one.order === 'stay' || ended) expect(next.step).toEqual(before);
          }
          if (next.again !== null) expect(next.again).toBeGreaterThanOrEqual(now);
          if (JSON.stringify(next.step) !== JSON.stringify(before)) since = now;
          step = next.step;
        }
      }),
    );
  });
});
