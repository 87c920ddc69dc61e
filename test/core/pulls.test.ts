import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import type { EnvironmentPlan } from '../../src/core/definition/model.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import {
  happenedAt,
  hasReview,
  type Pull,
  pullAfter,
  type PullChange,
  type PullEvent,
} from '../../src/core/advance/pulls.js';

const [first, second] = ['a'.repeat(40), 'b'.repeat(40)];

function told(events: readonly PullEvent[]): { pull: Pull | null; changes: PullChange[] } {
  let pull: Pull | null = null;
  const changes: PullChange[] = [];
  for (const event of events) {
    const after: { pull: Pull; change: PullChange } = pullAfter(pull, 214, event, 'main');
    pull = after.pull;
    changes.push(after.change);
  }
  return { pull, changes };
}

describe('a pull request', () => {
  const opened: PullEvent = { what: 'opened', at: 10, title: 'Winter', head: first, base: 'main', trusted: true };
  it('is opened, pushed to, told about, closed, and opened again', () => {
    const events: PullEvent[] = [
      opened,
      { what: 'updated', at: 20, head: second },
      { what: 'updated', at: 30, title: 'Winter timetable', base: 'next' },
      { what: 'updated', at: 40, head: second },
      { what: 'abandoned', at: 50 },
      { what: 'updated', at: 60, head: second },
      { what: 'merged', at: 70 },
    ];
    const { pull, changes } = told(events);
    expect(changes).toEqual(['opened', 'pushed', 'told', null, 'closed', 'opened', 'closed']);
    expect(pull).toMatchObject({
      number: 214,
      title: 'Winter timetable',
      head: second,
      base: 'next',
      trusted: true,
      state: 'closed',
      merged: true,
    });
  });
  it('that was closed is not opened by an opening that comes late', () => {
    const { pull, changes } = told([{ what: 'abandoned', at: 50 }, opened]);
    expect(changes).toEqual([null, null]);
    // What nobody had told yet is known from then on.
    expect(pull).toMatchObject({ state: 'closed', title: 'Winter', head: first });
  });
  it('keeps the newer head when the older one comes late, and does nothing twice', () => {
    const { pull, changes } = told([
      opened,
      { what: 'updated', at: 30, head: second },
      { what: 'updated', at: 20, head: first },
      opened,
    ]);
    expect([changes, pull?.head]).toEqual([['opened', 'pushed', null, null], second]);
  });
  it('of which nobody has told a commit yet is worked on when somebody does', () => {
    const { changes, pull } = told([
      { what: 'updated', at: 20, title: 'Later' },
      { what: 'updated', at: 30, draft: true },
      opened,
    ]);
    expect([changes, pull?.title]).toEqual([[null, null, 'opened'], 'Later']);
    expect(
      told([
        { what: 'updated', at: 20 },
        { what: 'abandoned', at: 30 },
      ]).changes,
    ).toEqual([null, null]);
  });
  it('of a stranger is worked on anew when its author may write', () => {
    const stranger = { ...opened, trusted: false };
    const { changes } = told([
      stranger,
      { what: 'updated', at: 20, trusted: true },
      { what: 'updated', at: 30, trusted: false },
    ]);
    expect(changes).toEqual(['opened', 'pushed', 'told']);
  });
  it('is closed where it is opened and closed in one moment', () => {
    const closed: PullEvent = { what: 'abandoned', at: 10 };
    expect(told([opened, closed]).pull?.state).toBe('closed');
    expect(told([closed, opened]).pull?.state).toBe('closed');
  });

  const event = fc.record(
    {
      what: fc.constantFrom('opened', 'updated', 'merged', 'abandoned'),
      at: fc.integer({ min: 1, max: 12 }),
      title: fc.constantFrom('one', 'two', 'three'),
      head: fc.constantFrom(first, second),
      base: fc.constantFrom('main', 'next'),
      trusted: fc.boolean(),
      draft: fc.boolean(),
    },
    { requiredKeys: ['what', 'at'] },
  ) as fc.Arbitrary<PullEvent>;
  it('ends in the same, in whatever order and however often its events come', () => {
    fc.assert(
      fc.property(
        fc.array(event, { minLength: 1, maxLength: 8 }),
        fc.infiniteStream(fc.nat()),
        fc.array(fc.nat(), { maxLength: 4 }),
        (events, order, again) => {
          const turned = events
            .map((one) => ({ one, key: order.next().value as number }))
            .sort((a, b) => a.key - b.key)
            .map(({ one }) => one);
          const repeated = [...turned, ...again.map((at) => events[at % events.length] as PullEvent)];
          expect(told(repeated).pull).toEqual(told(events).pull);
          // By then nothing that comes again changes anything.
          const { changes } = told([...events, ...events]);
          expect(changes.slice(events.length)).toEqual(events.map(() => null));
        },
      ),
      { numRuns: 3_000 },
    );
  });
  it('opens and closes in turn, and is pushed to only while it is open', () => {
    fc.assert(
      fc.property(fc.array(event, { maxLength: 12 }), (events) => {
        let open = false;
        for (const change of told(events).changes) {
          if (change === 'opened') expect(open).toBe(false);
          if (change === 'closed' || change === 'pushed' || change === 'told') expect(open).toBe(true);
          open = change === 'opened' || (open && change !== 'closed');
        }
        const { pull } = told(events);
        expect(pull?.state === 'open' && pull.head !== '').toBe(open);
      }),
      { numRuns: 2_000 },
    );
  });
});

describe('a review', () => {
  const environments = (more: string) =>
    parseDefinition(`tsunagi: 1\nenvironments:\n  review: { for: pull requests${more} }\n`);
  it('is had by whoever may write, and by drafts unless the definition says otherwise', () => {
    const all = environments('').definition?.environments.review as EnvironmentPlan;
    const some = environments(', drafts: false').definition?.environments.review as EnvironmentPlan;
    const has = (plan: EnvironmentPlan) =>
      [
        { trusted: true, draft: false },
        { trusted: true, draft: true },
        { trusted: false, draft: false },
      ].map((pull) => hasReview(plan, pull));
    expect([has(all), has(some)]).toEqual([
      [true, true, false],
      [true, false, false],
    ]);
    expect(hasReview({ for: null }, { trusted: true, draft: false })).toBe(false);
  });
  it('of drafts is nothing that another environment says', () => {
    const { issues } = parseDefinition('tsunagi: 1\nenvironments:\n  staging: { branch: main, drafts: false }\n');
    expect(issues.map((one) => one.code)).toEqual(['key_not_for']);
    expect(environments(', drafts: maybe').issues.map((one) => one.severity)).toEqual(['error']);
  });
});

describe('the time of an event', () => {
  it('is the one that it tells, unless that is none or far ahead', () => {
    const came = Date.parse('2026-11-27T10:00:00Z');
    expect(happenedAt('2026-11-27T09:59:00Z', came)).toBe(came - 60_000);
    expect(happenedAt('2026-11-27T11:03:00+01:00', came)).toBe(came + 180_000);
    for (const time of [undefined, 5, '', 'yesterday', '2026-11-27', '2036-01-01T00:00:00Z'])
      expect(happenedAt(time, came)).toBe(came);
  });
});
