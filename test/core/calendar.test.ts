import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { nextTime, parseDayTime, type Schedule, scheduleText, timesBetween } from '../../src/core/calendar/schedule.js';
import { parseDefinition } from '../../src/core/definition/parse.js';

const at = (...texts: string[]): Schedule => ({
  at: texts.map((text) => parseDayTime(text) as NonNullable<ReturnType<typeof parseDayTime>>),
});
const next = (schedule: Schedule, after: string) => new Date(nextTime(schedule, Date.parse(after), 0)).toISOString();
const hour = 3_600_000;

describe('a time of the day', () => {
  it('is by the clocks of its place, summer and winter', () => {
    expect(next(at('05:00 Europe/Oslo'), '2026-01-10T00:00:00Z')).toBe('2026-01-10T04:00:00.000Z');
    expect(next(at('05:00 Europe/Oslo'), '2026-07-10T04:00:00Z')).toBe('2026-07-11T03:00:00.000Z');
    expect(next(at('05:00 Asia/Tokyo'), '2026-01-10T00:00:00Z')).toBe('2026-01-10T20:00:00.000Z');
    expect(next(at('00:30 Pacific/Kiritimati'), '2026-01-10T11:00:00Z')).toBe('2026-01-11T10:30:00.000Z');
  });
  it('that the clocks leave out comes as much later, and one that comes twice counts once', () => {
    // 2026-03-29: from 02:00 to 03:00; 2026-10-25: from 03:00 back to 02:00.
    expect(next(at('02:30 Europe/Oslo'), '2026-03-28T12:00:00Z')).toBe('2026-03-29T01:30:00.000Z');
    expect(next(at('02:30 Europe/Oslo'), '2026-10-24T12:00:00Z')).toBe('2026-10-25T00:30:00.000Z');
    expect(next(at('02:30 Europe/Oslo'), '2026-10-25T00:30:00Z')).toBe('2026-10-26T01:30:00.000Z');
  });
  it('may be of one day of the week, and the soonest of several counts', () => {
    expect(next(at('mon 05:00 Europe/Oslo'), '2026-11-26T00:00:00Z')).toBe('2026-11-30T04:00:00.000Z');
    expect(next(at('12:00 Europe/Oslo', '06:00 Europe/Oslo'), '2026-11-26T06:00:00Z')).toBe('2026-11-26T11:00:00.000Z');
  });
  it('is there once each day, wherever and whenever', () => {
    const zones = ['Europe/Oslo', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Tokyo', 'Africa/Casablanca'];
    const times = fc.record({ hour: fc.integer({ min: 0, max: 23 }), minute: fc.integer({ min: 0, max: 59 }) });
    fc.assert(
      fc.property(fc.constantFrom(...zones), times, fc.integer({ min: 0, max: 3_000 }), (zone, time, day) => {
        const schedule: Schedule = { at: [{ weekday: null, zone, ...time }] };
        const first = nextTime(schedule, Date.UTC(2024, 0, 1) + day * 24 * hour, 0);
        const second = nextTime(schedule, first, 0);
        // A day has 23 to 25 hours, by the time that clocks leave out an hour and more.
        return second - first >= 22.5 * hour && second - first <= 25.5 * hour;
      }),
    );
  });
  it.each(['5:00 Europe/Oslo', '24:00 Europe/Oslo', '05:00', '05:00 Nowhere/City', '05:00 UTC+1', 'day 05:00 UTC', ''])(
    '%j is none',
    (text) => {
      expect(parseDayTime(text)).toBeNull();
    },
  );
});

describe('a pause', () => {
  it('counts from its beginning, and no time is told twice', () => {
    const schedule: Schedule = { everyMs: 24 * hour };
    expect(nextTime(schedule, 0, 0)).toBe(24 * hour);
    expect(nextTime(schedule, 24 * hour, 0)).toBe(48 * hour);
    expect(nextTime(schedule, 24 * hour - 1, 0)).toBe(24 * hour);
    expect(timesBetween(schedule, 0, 72 * hour, 0)).toBe(3);
    expect(timesBetween({ everyMs: 60_000 }, 0, 1e12, 0)).toBe(1_000);
    fc.assert(
      fc.property(
        fc.integer({ min: 60_000, max: 1e8 }),
        fc.integer({ min: 0, max: 1e12 }),
        fc.integer({ min: 0, max: 1e12 }),
        (everyMs, after, anchor) => {
          const found = nextTime({ everyMs }, after, anchor);
          return found > after && found > anchor && (found - anchor) % everyMs === 0;
        },
      ),
    );
  });
});

describe('a job', () => {
  const check = (rest: string) =>
    parseDefinition(`tsunagi: 1\nrelease:\n  parts:\n    digest: { kind: job, files: [a.js], ${rest} }\n`);
  it('has a command and times', () => {
    const { definition, issues } = check(
      'run: node a.js, at: ["05:00 Europe/Oslo", "mon 06:00 Asia/Tokyo"], timeout: 5m',
    );
    expect(issues).toEqual([]);
    expect(definition?.release?.parts.digest).toMatchObject({
      kind: 'job',
      start: 'node a.js',
      timeoutMs: 300_000,
      at: '/',
    });
    expect(scheduleText(definition?.release?.parts.digest?.schedule as Schedule)).toBe(
      '05:00 Europe/Oslo, mon 06:00 Asia/Tokyo',
    );
    expect(scheduleText(check('run: x, every: 1d').definition?.release?.parts.digest?.schedule as Schedule)).toBe(
      'every 1d',
    );
  });
  it.each([
    ['run: x', 'one_of_keys'],
    ['run: x, every: 1d, at: "05:00 UTC"', 'one_of_keys'],
    ['run: x, every: 30s', 'job_often'],
    ['run: x, at: /digest', 'job_time'],
    ['every: 1d', 'required_key'],
    ['run: x, every: 1d, start: y', 'key_not_for'],
    ['run: x, every: 1d, instances: 2', 'key_not_for'],
  ])('%s is an error', (rest, code) => {
    expect(check(rest).issues.map((one) => one.code)).toContain(code);
  });
  it('leaves paths to the others', () => {
    const server = (rest: string) =>
      parseDefinition(
        `tsunagi: 1\nrelease:\n  parts:\n    api: { kind: server, files: [a.js], start: node a.js, ${rest} }\n`,
      );
    expect(server('at: /api').definition?.release?.parts.api?.at).toBe('/api');
    expect(server('at: "05:00 UTC"').issues.map((one) => one.code)).toEqual(['key_not_for']);
    expect(server('at: [/a, /b]').issues.map((one) => one.code)).toContain('key_not_for');
    expect(server('every: 1d').issues.map((one) => one.code)).toEqual(['key_not_for']);
  });
});
