/**
 * Times in which nothing is taken: of each week, of each day, or once, by the clocks of a place. Where clocks are put back, a window
 * begins with the first of two equal times and ends with the second; where they are put forward past a time, it is the moment in which
 * that is done. So what is frozen by the clocks is frozen, and none opens for the hour that comes twice.
 */
import { DateTime, IANAZone } from 'luxon';

interface Clock {
  hour: number;
  minute: number;
}

/** `week`: days of the week from 1 to 7, Monday first (ISO 8601). `date`: ISO 8601; a day without a time is all of that day. */
type Moments =
  | { kind: 'week'; from: Clock & { weekday: number }; to: Clock & { weekday: number } }
  | { kind: 'day'; from: Clock; to: Clock }
  | { kind: 'date'; from: Clock & { date: string }; to: Clock & { date: string } };

export type FrozenHours = Moments & {
  /** IANA: `Europe/Oslo` */
  zone: string;
  /** As it is written. */
  text: string;
};

/** Milliseconds since the epoch; `until` is the first moment that is free again. */
export interface FrozenSpan {
  from: number;
  until: number;
  text: string;
}

const weekdays = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'] as const;
const clock = '(?:[01]\\d|2[0-3]):[0-5]\\d';
const moments = {
  week: `(?:${weekdays.join('|')}) ${clock}`,
  day: clock,
  date: `\\d{4}-\\d{2}-\\d{2}(?: ${clock})?`,
};
const zonePattern = '[A-Za-z_]+(?:/[A-Za-z0-9_+-]+)*';

/** Windows that follow one another without a pause are looked through so far: beyond that nothing is free in sight. */
const mostInARow = 64;
/** Longer than any window of a week, however clocks are set. */
const weekMs = 9 * 24 * 3_600_000;

const clockOf = (text: string): Clock => ({ hour: Number(text.slice(0, 2)), minute: Number(text.slice(3, 5)) });

/** `fri 16:00 to mon 07:00 Europe/Oslo`, `22:00 to 06:00 Asia/Tokyo`, `2026-12-20 to 2027-01-03 Europe/Oslo`; null when it is none. */
export function parseFrozen(text: string): FrozenHours | null {
  for (const kind of ['week', 'day', 'date'] as const) {
    const found = new RegExp(`^(${moments[kind]}) to (${moments[kind]}) (${zonePattern})$`).exec(text);
    if (!found) continue;
    const [, from = '', to = '', zone = ''] = found;
    if (!IANAZone.isValidZone(zone)) return null;
    // One day by its date is all of it; two equal times are no window.
    if (kind === 'date') return dated(text, from, to, zone);
    if (from === to) return null;
    if (kind === 'day') return { kind, from: clockOf(from), to: clockOf(to), zone, text };
    const at = (one: string) => ({
      weekday: weekdays.indexOf(one.slice(0, 3) as (typeof weekdays)[number]) + 1,
      ...clockOf(one.slice(4)),
    });
    return { kind, from: at(from), to: at(to), zone, text };
  }
  return null;
}

/** A day without a time begins with it, and ends with it. */
function dated(text: string, from: string, to: string, zone: string): FrozenHours | null {
  const begins = DateTime.fromISO(from.slice(0, 10), { zone });
  const ends = DateTime.fromISO(to.slice(0, 10), { zone });
  if (!begins.isValid || !ends.isValid) return null;
  const last = to.length > 10 ? ends : ends.plus({ days: 1 });
  const window: FrozenHours = {
    kind: 'date',
    from: {
      date: begins.toISODate() as string,
      ...(from.length > 10 ? clockOf(from.slice(11)) : { hour: 0, minute: 0 }),
    },
    to: { date: last.toISODate() as string, ...(to.length > 10 ? clockOf(to.slice(11)) : { hour: 0, minute: 0 }) },
    zone,
    text,
  };
  const [span] = spansOf(window, 0, Number.MAX_SAFE_INTEGER);
  return span && span.until > span.from ? window : null;
}

/** The moment of a time of that day: the first or the last of those that are equal by the clocks. */
function momentOf(day: DateTime, { hour, minute }: Clock, which: 'first' | 'last'): number {
  const time = day.set({ hour, minute, second: 0, millisecond: 0 });
  if (time.hour === hour && time.minute === minute) {
    const all = [time, ...time.getPossibleOffsets()].map((one) => one.toMillis());
    return which === 'first' ? Math.min(...all) : Math.max(...all);
  }
  // Clocks are put forward past it: the first minute that has the offset of what is after that.
  let [before, after] = [time.toMillis() - 24 * 3_600_000, time.toMillis()];
  while (after - before > 60_000) {
    const middle = before + Math.floor((after - before) / 120_000) * 60_000;
    if (DateTime.fromMillis(middle, { zone: time.zone }).offset === time.offset) after = middle;
    else before = middle;
  }
  return after;
}

/** Its spans that touch [from, until), by their beginning. */
function spansOf(window: FrozenHours, from: number, until: number): FrozenSpan[] {
  const { zone, text } = window;
  if (window.kind === 'date') {
    const span = {
      from: momentOf(DateTime.fromISO(window.from.date, { zone }), window.from, 'first'),
      until: momentOf(DateTime.fromISO(window.to.date, { zone }), window.to, 'last'),
      text,
    };
    return span.until > from && span.from < until ? [span] : [];
  }
  const minutes = ({ hour, minute }: Clock) => hour * 60 + minute;
  const later = minutes(window.to) > minutes(window.from);
  const days =
    window.kind === 'day' ? (later ? 0 : 1) : (window.to.weekday - window.from.weekday + 7) % 7 || (later ? 0 : 7);
  const spans: FrozenSpan[] = [];
  let day = DateTime.fromMillis(from - weekMs, { zone }).startOf('day');
  for (; day.toMillis() < until; day = day.plus({ days: 1 })) {
    if (window.kind === 'week' && day.weekday !== window.from.weekday) continue;
    const span = {
      from: momentOf(day, window.from, 'first'),
      until: momentOf(day.plus({ days }), window.to, 'last'),
      text,
    };
    if (span.until > from && span.from < until && span.until > span.from) spans.push(span);
  }
  return spans;
}

/** All spans that touch [from, until), by their beginning: what a calendar shows. */
export const frozenBetween = (windows: readonly FrozenHours[], from: number, until: number): FrozenSpan[] =>
  windows.flatMap((one) => spansOf(one, from, until)).sort((a, b) => a.from - b.from || a.until - b.until);

/**
 * Whether it is frozen at a moment, by which window, and until when: past windows that follow without a pause. `until` is null where
 * nothing is free in sight.
 */
export function frozenAt(windows: readonly FrozenHours[], at: number): { text: string; until: number | null } | null {
  const longest = (time: number): FrozenSpan | null =>
    frozenBetween(windows, time, time + 1).reduce<FrozenSpan | null>(
      (best, one) => (best === null || one.until > best.until ? one : best),
      null,
    );
  let span = longest(at);
  if (!span) return null;
  const { text } = span;
  for (let row = 0; row < mostInARow; row++) {
    const next = longest(span.until);
    if (!next) return { text, until: span.until };
    span = next;
  }
  return { text, until: null };
}
