/** How delivery goes: spreads against exact quantiles, weeks, what counts as a failure. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { activityGroups, activityText } from '../../src/core/activity.js';
import { measures } from '../../src/core/delivery/definitions.js';
import { deliveryOver, lastWeeks, slowest, weekOf, weeksOf, workOver } from '../../src/core/delivery/report.js';
import {
  addDeliveryDays,
  changeSpreads,
  dayOf,
  type EndedDeployment,
  emptyDay,
  failureOf,
  type TaskDay,
  taskDays,
} from '../../src/core/delivery/rows.js';
import { addSpreads, countOf, quantileOf, quantilesOf, spreadOf } from '../../src/core/delivery/spread.js';
import { roughText, trendText } from '../../src/core/delivery/words.js';
import { csvOf } from '../../src/service/views/delivery.js';
import { eventTypes } from '../../src/records/events.js';

const minute = 60_000;
const day = 86_400_000;

describe('a spread of lengths', () => {
  it('knows each quantile to within 5 %, and adds up', () => {
    fc.assert(
      fc.property(
        fc.array(fc.integer({ min: 100, max: 90 * day }), { minLength: 1, maxLength: 200 }),
        fc.nat(200),
        fc.constantFrom(0.5, 0.9, 1),
        (lengths, cut, share) => {
          const sorted = [...lengths].sort((a, b) => a - b);
          const exact = sorted[Math.ceil(share * sorted.length) - 1] as number;
          const both = addSpreads([spreadOf(lengths.slice(0, cut)), spreadOf(lengths.slice(cut))]);
          expect(countOf(both)).toBe(lengths.length);
          expect(quantilesOf(both, [0.1, share])[1]).toBe(quantileOf(both, share));
          const found = quantileOf(both, share) as number;
          expect(Math.abs(found / exact - 1)).toBeLessThan(0.051);
        },
      ),
    );
    expect(quantileOf({}, 0.5)).toBeNull();
    // What no clock can have measured stands in the first and the last bucket.
    expect(quantileOf(spreadOf([-5, 0, Number.MIN_VALUE]), 1)).toBe(100);
    expect(countOf(spreadOf([1e18]))).toBe(1);
  });
});

describe('weeks', () => {
  it('begin on Mondays of UTC, over a year’s end too', () => {
    expect(weekOf('2026-11-28')).toBe('2026-11-23');
    expect(weekOf('2026-11-23')).toBe('2026-11-23');
    expect(weekOf('2027-01-01')).toBe('2026-12-28');
    expect(lastWeeks(Date.parse('2027-01-05T23:59:59Z'), 3)).toEqual(['2026-12-21', '2026-12-28', '2027-01-04']);
  });

  it('take each row in once, and none that lies before them', () => {
    const weeks = lastWeeks(Date.parse('2026-11-28T12:00:00Z'), 2);
    const rows = ['2026-11-10', '2026-11-16', '2026-11-22', '2026-11-23', '2026-11-28'].map((at) => ({
      ...emptyDay('e', at),
      live: 1,
      seen: 1,
    }));
    const { all, weeks: each } = deliveryOver([weeksOf({ delivery: rows, tasks: [] }, weeks)], weeks);
    expect([all.deployments, ...each.map((week) => week.deployments)]).toEqual([4, 2, 2]);
    expect(all.failedShare).toBe(0);
    expect(deliveryOver([], weeks).all.failedShare).toBeNull();
  });
});

describe('the way of a commit', () => {
  it('is the sum of its parts, and no clock makes one of them less than nothing', () => {
    const change = { committed: 0, pushed: 5 * minute, built: 15 * minute, asked: 75 * minute, live: 80 * minute };
    const spread = changeSpreads([change]);
    const half = (of: keyof typeof spread) => Math.round((quantileOf(spread[of], 0.5) as number) / minute);
    expect([half('pushed'), half('built'), half('waited'), half('brought'), half('lead')]).toEqual([5, 10, 62, 5, 83]);
    const ahead = changeSpreads([{ ...change, committed: 70 * minute }]);
    expect(quantileOf(ahead.pushed, 0.5)).toBe(100);
    expect(quantileOf(ahead.lead, 0.5)).toBeCloseTo(75 * minute, -6);
  });
});

describe('a change that failed', () => {
  const ended = (more: Partial<EndedDeployment>): EndedDeployment => ({
    state: 'replaced',
    seen: 0,
    ended: null,
    poor: null,
    splitEnded: false,
    next: { revert: false, asked: 100, live: 200 },
    ...more,
  });
  it.each([
    ['gave way to the next one', {}, false, null],
    ['was taken back', { state: 'reverted', next: { revert: true, asked: 100, live: 160 } }, true, 60],
    [
      'was poor before somebody took it back',
      { state: 'reverted', poor: 40, next: { revert: true, asked: 100, live: 160 } },
      true,
      120,
    ],
    ['was poor when the next one mended it', { poor: 50 }, true, 150],
    ['failed with some of the traffic', { state: 'failed', seen: 10, ended: 70, next: null }, true, 60],
    ['failed before anybody saw it', { state: 'failed', seen: null, ended: 70, next: null }, false, null],
    [
      'was a split that somebody ended',
      { state: 'failed', seen: 10, ended: 70, splitEnded: true, next: null },
      false,
      null,
    ],
    ['is live', { state: 'live', next: null }, false, null],
    ['has nothing after it yet', { state: 'failed', seen: 10, ended: null, next: null }, true, null],
  ] as const)('%s', (_, more, failed, restoredMs) => {
    expect(failureOf(ended(more as Partial<EndedDeployment>))).toEqual({ failed, restoredMs });
  });
});

describe('tasks', () => {
  const at = Date.parse('2026-11-28T12:00:00Z');
  it('count what ran, what was there already and what that saved', () => {
    const rows = taskDays(at, [
      {
        task: 'unit',
        state: 'passed',
        flaky: true,
        saved: null,
        attempts: [
          { asked: 0, began: 200, ended: 1_200 },
          { asked: 2_000, began: 2_100, ended: 4_100 },
        ],
      },
      { task: 'pack', state: 'reused', flaky: false, saved: 90_000, attempts: [] },
      { task: 'late', state: 'skipped', flaky: false, saved: null, attempts: [] },
      { task: 'lost', state: 'failed', flaky: false, saved: null, attempts: [{ asked: 0, began: null, ended: null }] },
    ]);
    expect(
      rows.map(({ task, ran, reused, flaky, tookMs, savedMs, day: of }) => [
        task,
        ran,
        reused,
        flaky,
        tookMs,
        savedMs,
        of,
      ]),
    ).toEqual([
      ['unit', 1, 0, 1, 3_000, 0, '2026-11-28'],
      ['pack', 0, 1, 0, 0, 90_000, '2026-11-28'],
    ]);
    const { all } = workOver([weeksOf({ delivery: [], tasks: rows }, lastWeeks(at, 1))], lastWeeks(at, 1));
    expect(all).toMatchObject({ ran: 1, reused: 1, reusedShare: 0.5, savedMs: 90_000 });
    expect(all.waited.count).toBe(2);
  });

  it('stand by what they take in all, with their trend', () => {
    const weeks = lastWeeks(at, 4);
    const row = (task: string, week: number, ms: number): TaskDay => ({
      task,
      day: dayOf(Date.parse(weeks[week] as string)),
      ran: 1,
      reused: 0,
      failed: 0,
      flaky: 0,
      tookMs: ms,
      savedMs: 0,
      took: spreadOf([ms]),
      waited: {},
    });
    const tasks = slowest(
      weeksOf({ delivery: [], tasks: [row('slow', 0, 60_000), row('slow', 3, 120_000), row('new', 3, 500)] }, weeks),
      weeks,
      5,
    );
    expect(tasks.map(({ task }) => task)).toEqual(['slow', 'new']);
    expect(tasks[0]?.trend).toBeCloseTo(2, 0);
    expect(tasks[1]?.trend).toBeNull();
    expect(tasks[0]?.weeks.map((one) => one !== null)).toEqual([true, false, false, true]);
    expect([trendText(2), trendText(0.5), trendText(1.02), trendText(null)]).toEqual([
      '100 % longer',
      '50 % shorter',
      'as before',
      '',
    ]);
    expect(
      slowest(weeksOf({ delivery: [], tasks: [row('a', 0, 1_000), row('b', 0, 2_000)] }, weeks), weeks, 1).map(
        ({ task }) => task,
      ),
    ).toEqual(['b']);
  });
});

describe('tables and words', () => {
  it('is no formula to whoever opens a table, and nothing in it ends a cell', () => {
    expect(csvOf([['a', '=1+2', 'say "hi", twice', null, 4.5, 'two\nlines', '-x']])).toBe(
      'a,\'=1+2,"say ""hi"", twice",,4.5,"two\nlines",\'-x\r\n',
    );
  });

  it('tells lengths to two figures', () => {
    expect([350, 4_321, 41_499, 381_000, 1_234_567, 14_220_000, 95_000_000, 1_000_000_000].map(roughText)).toEqual([
      '0.4 s',
      '4.3 s',
      '41 s',
      '6 min 20 s',
      '21 min',
      '4 h',
      '26 h',
      '12 days',
    ]);
  });

  it('says of each measure what it counts', () => {
    for (const text of Object.values(measures)) expect(text).toMatch(/^[A-Z].+\.$/);
  });

  it('has words for every event, whatever stands in it, and a group', () => {
    const groups = new Set<string>(Object.values(activityGroups).flat());
    for (const type of eventTypes) {
      for (const data of [{}, { why: 3, with: 'x', override: { why: 'y' } }])
        expect(activityText({ type, subject: 'sailings/production', data })).not.toMatch(/undefined|\[object|null/);
    }
    expect(eventTypes.filter((type) => !groups.has(type.split('.')[0] as string))).toEqual([]);
    expect(activityText({ type: 'environment.held', subject: 'sailings/production', data: { why: 'low water' } })).toBe(
      'put sailings/production on hold: low water',
    );
    expect(addDeliveryDays([emptyDay('e', '2026-11-28')])).toEqual(emptyDay('e', '2026-11-28'));
  });
});
