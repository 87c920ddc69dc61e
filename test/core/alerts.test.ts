import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { deliveryDone, patientMs } from '../../src/core/advance/deliveries.js';
import {
  type Condition,
  conditionKey,
  defaultPatience,
  type KnownCondition,
  stepConditions,
} from '../../src/core/alerts/conditions.js';
import { type HeardEvent, type Subscribed, topicOf } from '../../src/core/alerts/match.js';
import { type Item, subjectOf, textOf } from '../../src/core/alerts/words.js';
import { issue } from '../../src/core/errors/errors.js';
import { isMailAddress } from '../../src/channels/mail.js';

const failed: Condition = {
  topic: 'deployment-failed',
  place: 'sailings/staging',
  of: 'd17',
  project: 'p',
  environment: 'staging',
  says: 'it ended',
};
const poor: Condition = { ...failed, topic: 'health-poor', of: '' };
const patience = { poorMs: 1_000, calmMs: 100, mailMs: 0 };

/** Looks at each moment, and tells what was told. */
function watch(moments: readonly (readonly Condition[])[], stepMs: number) {
  let known: KnownCondition[] = [];
  const told: string[] = [];
  moments.forEach((present, at) => {
    const step = stepConditions(known, present, at * stepMs, patience);
    known = step.known;
    told.push(
      ...step.began.map((one) => `+${one.topic} ${one.of}`),
      ...step.ended.map((one) => `-${one.topic} ${one.of}`),
    );
  });
  return { told, known };
}

describe('what is wrong', () => {
  it('is told when it begins and when it has been gone for a while', () => {
    expect(watch([[failed], [failed], [], [], []], 60).told).toEqual([
      '+deployment-failed d17',
      '-deployment-failed d17',
    ]);
  });
  it('of another thing in the same place is told again', () => {
    expect(watch([[failed], [{ ...failed, of: 'd18' }], [], [], []], 60).told).toEqual([
      '+deployment-failed d17',
      '+deployment-failed d18',
      '-deployment-failed d18',
    ]);
  });
  it('and flutters is told once; poor health only when it lasts', () => {
    expect(watch([[failed], [], [failed], [], [failed]], 60).told).toEqual(['+deployment-failed d17']);
    expect(watch([[poor], [], [poor], [], []], 400).told).toEqual([]);
    expect(watch([[poor], [poor], [poor], [poor], [], [], []], 400).told).toEqual(['+health-poor ', '-health-poor ']);
    expect(defaultPatience.poorMs).toBe(300_000);
  });
  it('begins before it ends, ends once, and nothing is known for ever', () => {
    const any = fc.subarray([failed, poor, { ...failed, place: 'sailings/production' }, { ...failed, of: 'd18' }]);
    fc.assert(
      fc.property(fc.array(any, { maxLength: 30 }), fc.integer({ min: 1, max: 2_000 }), (moments, stepMs) => {
        const clean = moments.map((one) => [...new Map(one.map((item) => [conditionKey(item), item])).values()]);
        // However it was: in the end all is well for long enough.
        const { told, known } = watch(
          [...clean, ...Array.from({ length: Math.ceil(200 / stepMs) + 2 }, () => [])],
          stepMs,
        );
        const begins = told.filter((one) => one.startsWith('+')).length;
        const ends = told.filter((one) => one.startsWith('-')).length;
        return known.length === 0 && ends <= begins && (begins === 0 || ends > 0);
      }),
    );
  });
});

describe('a subscription', () => {
  const everything: Subscribed = {
    channel: 'mail',
    topics: ['deployment-failed'],
    project: null,
    environment: null,
    person: null,
  };
  const began: HeardEvent = {
    number: '1',
    type: 'alert.began',
    project: 'p',
    subject: 'sailings/staging',
    data: { topic: 'deployment-failed', environment: 'staging' },
    by: 'engine',
    at: 0,
  };
  const ended: HeardEvent = { ...began, type: 'run.ended', subject: 'run 1', data: { state: 'failed' }, by: 'mika' };
  it('is told of its topics, of its project and its environment', () => {
    expect(topicOf(everything, began)).toBe('deployment-failed');
    expect(topicOf({ ...everything, topics: ['disk-full'] }, began)).toBeNull();
    expect(topicOf({ ...everything, project: 'q' }, began)).toBeNull();
    expect(topicOf({ ...everything, environment: 'production' }, began)).toBeNull();
    expect(topicOf({ ...everything, project: 'p', environment: 'staging' }, began)).toBe('deployment-failed');
    expect(topicOf(everything, ended)).toBeNull();
  });
  it('of a code host is told of runs alone', () => {
    const host: Subscribed = { ...everything, channel: 'code-host', project: 'p', topics: [] };
    expect([topicOf(host, ended), topicOf(host, began), topicOf({ ...host, project: 'q' }, ended)]).toEqual([
      'status',
      null,
      null,
    ]);
  });
  it('of a person is told of that person’s own', () => {
    const mika: Subscribed = { ...everything, person: 'mika', topics: ['my-run-failed', 'my-review-live'] };
    expect(topicOf(mika, ended)).toBe('my-run-failed');
    expect(topicOf({ ...mika, person: 'aoi' }, ended)).toBeNull();
    expect(topicOf(mika, { ...ended, data: { state: 'passed' } })).toBeNull();
    const live = { ...ended, type: 'deployment.state', subject: 'd3', data: { state: 'live', review: true } };
    expect(topicOf(mika, live)).toBe('my-review-live');
    expect(topicOf(mika, { ...live, data: { state: 'live', review: false } })).toBeNull();
    expect(topicOf(mika, began)).toBeNull();
  });
});

describe('a delivery', () => {
  const away = { done: false as const, again: true, issue: issue('channel_silent', { where: 'x' }) };
  it('is sent again at growing pauses, for two days', () => {
    expect(deliveryDone(0, 0, { done: true })).toEqual({ state: 'delivered', tries: 1, issue: null, againMs: null });
    const pauses = Array.from({ length: 12 }, (_, tries) => deliveryDone(tries, 1_000, away).againMs as number);
    expect(pauses).toEqual([...pauses].sort((a, b) => a - b));
    expect(deliveryDone(40, patientMs, away)).toMatchObject({ state: 'given up', againMs: null });
    expect(deliveryDone(0, 0, { ...away, again: false }).state).toBe('given up');
  });
});

describe('what people read', () => {
  const item: Item = {
    topic: 'health-poor',
    place: 'sailings/production',
    endedAfterMs: null,
    says: 'Its health is poor.',
    url: 'http://x/sailings/production',
    at: '2026-01-01T00:00:00Z',
  };
  it('names the place and what is wrong first; the end is said too', () => {
    expect(subjectOf([item])).toBe('sailings/production: in poor health');
    expect(subjectOf([item, item])).toBe('sailings/production: in poor health, and 1 more');
    const over = { ...item, endedAfterMs: 372_000 };
    expect(textOf([over])).toContain('in good health again\nIt lasted 6 min 12 s.');
  });
  it('goes to one address', () => {
    expect(isMailAddress('m@kohama.example')).toBe(true);
    for (const text of ['m@a,x@b', 'M <m@a>', 'm@a\nBcc: x@b', 'm', '', `${'a'.repeat(70)}@b`, 'm@a b'])
      expect(isMailAddress(text)).toBe(false);
  });
});
