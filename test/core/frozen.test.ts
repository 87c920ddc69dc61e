/** Times in which nothing is taken, against a slow reference, and over changes of the clocks. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { DateTime } from 'luxon';
import { frozenAt, frozenBetween, type FrozenHours, parseFrozen } from '../../src/core/calendar/frozen.js';

const hours = (...texts: string[]): FrozenHours[] => texts.map((text) => parseFrozen(text) as FrozenHours);
const until = (windows: FrozenHours[], at: string): string | null | undefined => {
  const found = frozenAt(windows, Date.parse(at));
  return found && (found.until === null ? null : new Date(found.until).toISOString().replace('.000', ''));
};
const minute = 60_000;
const weekend = hours('fri 16:00 to mon 07:00 Europe/Oslo');

describe('frozen hours', () => {
  it('are by the clocks of their place, summer and winter', () => {
    expect(until(weekend, '2026-11-27T14:59:00Z')).toBeNull();
    expect(frozenAt(weekend, Date.parse('2026-11-27T14:59:59Z'))).toBeNull();
    expect(until(weekend, '2026-11-27T15:00:00Z')).toBe('2026-11-30T06:00:00Z');
    expect(until(weekend, '2026-07-12T12:00:00Z')).toBe('2026-07-13T05:00:00Z');
    expect(frozenAt(weekend, Date.parse('2026-07-13T05:00:00Z'))).toBeNull();
    const nights = hours('22:00 to 06:00 Asia/Tokyo');
    expect(until(nights, '2026-11-27T13:30:00Z')).toBe('2026-11-27T21:00:00Z');
    expect(frozenAt(nights, Date.parse('2026-11-27T12:59:00Z'))).toBeNull();
    const noon = hours('12:00 to 13:00 UTC');
    expect(until(noon, '2026-11-27T12:00:00Z')).toBe('2026-11-27T13:00:00Z');
  });

  it('of a week over a change of the clocks are as long as they are by them', () => {
    // 2026-03-29: from 02:00 to 03:00; 2026-10-25: from 03:00 back to 02:00.
    expect(until(weekend, '2026-03-27T15:00:00Z')).toBe('2026-03-30T05:00:00Z');
    expect(until(weekend, '2026-10-23T14:00:00Z')).toBe('2026-10-26T06:00:00Z');
  });

  it('that begin or end in an hour that is left out do so when it is, and in one that comes twice begin early and end late', () => {
    const ends = hours('00:00 to 02:30 Europe/Oslo');
    expect(until(ends, '2026-03-28T23:30:00Z')).toBe('2026-03-29T01:00:00Z');
    expect(until(ends, '2026-10-24T22:30:00Z')).toBe('2026-10-25T01:30:00Z');
    // Between the two it is half past two already, and will be two again.
    expect(until(ends, '2026-10-25T00:45:00Z')).toBe('2026-10-25T01:30:00Z');
    const begins = hours('02:30 to 05:00 Europe/Oslo');
    expect(frozenAt(begins, Date.parse('2026-03-29T00:59:00Z'))).toBeNull();
    expect(until(begins, '2026-03-29T01:00:00Z')).toBe('2026-03-29T03:00:00Z');
    expect(frozenAt(begins, Date.parse('2026-10-25T00:29:00Z'))).toBeNull();
    expect(until(begins, '2026-10-25T00:30:00Z')).toBe('2026-10-25T04:00:00Z');
  });

  it('of some days are all of these days, or from a time to a time', () => {
    const feast = hours('2026-12-20 to 2027-01-03 Europe/Oslo');
    expect(frozenAt(feast, Date.parse('2026-12-19T22:59:00Z'))).toBeNull();
    expect(until(feast, '2026-12-19T23:00:00Z')).toBe('2027-01-03T23:00:00Z');
    expect(until(hours('2026-12-24 12:00 to 2026-12-24 18:00 UTC'), '2026-12-24T17:59:00Z')).toBe(
      '2026-12-24T18:00:00Z',
    );
    expect(until(hours('2026-12-24 to 2026-12-24 UTC'), '2026-12-24T17:59:00Z')).toBe('2026-12-25T00:00:00Z');
  });

  it('that follow one another are over with the last of them; where none ends that is said', () => {
    const all = hours('fri 16:00 to sat 12:00 UTC', 'sat 10:00 to sun 08:00 UTC', 'sun 08:00 to sun 09:00 UTC');
    expect(until(all, '2026-11-27T16:00:00Z')).toBe('2026-11-29T09:00:00Z');
    expect(until(hours('mon 00:00 to thu 00:00 UTC', 'thu 00:00 to mon 00:00 UTC'), '2026-11-27T16:00:00Z')).toBeNull();
    expect(frozenAt(hours('mon 00:00 to thu 00:00 UTC', 'thu 00:00 to mon 00:00 UTC'), 0)).toMatchObject({
      until: null,
    });
  });

  it.each([
    'fri 16:00 to mon 07:00',
    'fri 16:00 to mon 07:00 Nowhere/City',
    'fri 24:00 to mon 07:00 UTC',
    'fri 16:00 to 07:00 UTC',
    'fri 16:00 to fri 16:00 UTC',
    '06:00 to 06:00 UTC',
    '2026-02-30 to 2026-03-02 UTC',
    '2026-12-24 to 2026-12-23 UTC',
    '2026-12-24 18:00 to 2026-12-24 12:00 UTC',
    'weekend',
    '',
  ])('%j are none', (text) => {
    expect(parseFrozen(text)).toBeNull();
  });

  it('agree with a look at the clock of each minute', () => {
    const zones = ['Europe/Oslo', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu', 'Africa/Casablanca'];
    const names = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];
    const two = (number: number) => String(number).padStart(2, '0');
    const moment = fc.record({
      weekday: fc.integer({ min: 1, max: 7 }),
      hour: fc.integer({ min: 0, max: 23 }),
      minute: fc.constantFrom(0, 15, 30, 59),
    });
    // Days around changes of the clocks, and others.
    const day = fc.oneof(
      fc.constantFrom(
        Date.UTC(2026, 2, 27),
        Date.UTC(2026, 9, 23),
        Date.UTC(2026, 2, 6),
        Date.UTC(2026, 9, 30),
        Date.UTC(2026, 3, 3),
      ),
      fc.integer({ min: 0, max: 700 }).map((days) => Date.UTC(2025, 5, 1) + days * 24 * 60 * minute),
    );
    fc.assert(
      fc.property(fc.constantFrom(...zones), moment, moment, day, (zone, from, to, begins) => {
        const ofWeek = ({ weekday, hour, minute: at }: { weekday: number; hour: number; minute: number }) =>
          ((weekday - 1) * 24 + hour) * 60 + at;
        fc.pre(ofWeek(from) !== ofWeek(to));
        const text = (one: typeof from) => `${names[one.weekday - 1]} ${two(one.hour)}:${two(one.minute)}`;
        const window = hours(`${text(from)} to ${text(to)} ${zone}`);
        const inside = (at: number) => {
          const { weekday, hour, minute: passed } = DateTime.fromMillis(at, { zone });
          const now = ofWeek({ weekday, hour, minute: passed });
          const [first, last] = [ofWeek(from), ofWeek(to)];
          return first < last ? now >= first && now < last : now >= first || now < last;
        };
        /** The clock shows this time once more, or has shown it before. */
        const twice = (at: number) => DateTime.fromMillis(at, { zone }).getPossibleOffsets().length > 1;
        for (let at = begins; at < begins + 4 * 24 * 60 * minute; at += 71 * minute) {
          const found = frozenAt(window, at);
          if (!twice(at))
            expect([new Date(at).toISOString(), found !== null]).toEqual([new Date(at).toISOString(), inside(at)]);
          // Never less than what the clock says.
          else if (inside(at)) expect(found).not.toBeNull();
          if (found?.until) {
            expect(frozenAt(window, found.until - 1)).not.toBeNull();
            expect(frozenAt(window, found.until)).toBeNull();
          }
        }
        const spans = frozenBetween(window, begins, begins + 21 * 24 * 60 * minute);
        expect(spans.length).toBeGreaterThanOrEqual(2);
        expect(spans.every((one, index) => index === 0 || one.from >= (spans[index - 1]?.until ?? 0))).toBe(true);
      }),
      { numRuns: 20 },
    );
  });
});
