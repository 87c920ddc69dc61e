/** When a job runs: at times of a day in a place, or again and again after a while. */
import { DateTime, IANAZone } from 'luxon';
import { durationSource } from '../durations.js';

/** A time of a day, of each day or of one of the week (1 to 7, Monday first; ISO 8601), by the clocks of a place. */
export interface DayTime {
  weekday: number | null;
  hour: number;
  minute: number;
  /** IANA: `Europe/Oslo` */
  zone: string;
}

export type Schedule = { everyMs: number } | { at: DayTime[] };

const weekdays = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'] as const;
/** Shorter pauses are a worker's matter. */
export const leastEveryMs = 60_000;

/** `05:00 Europe/Oslo`, `mon 05:00 Asia/Tokyo`; null when it is none. */
export function parseDayTime(text: string): DayTime | null {
  const found =
    /^(?:(mon|tue|wed|thu|fri|sat|sun) )?([01]\d|2[0-3]):([0-5]\d) ([A-Za-z_]+(?:\/[A-Za-z0-9_+-]+)*)$/.exec(text);
  if (!found || !IANAZone.isValidZone(found[4] as string)) return null;
  const weekday = weekdays.indexOf(found[1] as (typeof weekdays)[number]);
  return {
    weekday: weekday < 0 ? null : weekday + 1,
    hour: Number(found[2]),
    minute: Number(found[3]),
    zone: found[4] as string,
  };
}

/**
 * The first time after a moment, in milliseconds since the epoch. Where clocks are put forward past a time, it is as much later; where
 * they are put back, the first of the two counts: so each day has one.
 * @param anchor from which `every` counts
 */
export function nextTime(schedule: Schedule, after: number, anchor: number): number {
  if ('everyMs' in schedule) {
    const turns = Math.floor((after - anchor) / schedule.everyMs) + 1;
    return anchor + Math.max(1, turns) * schedule.everyMs;
  }
  return Math.min(...schedule.at.map((one) => nextOf(one, after)));
}

function nextOf({ weekday, hour, minute, zone }: DayTime, after: number): number {
  // The day before too: what is later on it by the clocks may be later than the moment.
  let day = DateTime.fromMillis(after, { zone }).startOf('day').minus({ days: 1 });
  for (let tries = 0; tries < 10; tries++) {
    const time = firstOf(day.set({ hour, minute, second: 0, millisecond: 0 }));
    if (time > after && (weekday === null || day.weekday === weekday)) return time;
    day = day.plus({ days: 1 });
  }
  throw new Error(`no ${hour}:${minute} in ${zone}`);
}

/** The first of two moments that have the same time by the clocks. */
const firstOf = (time: DateTime): number =>
  Math.min(time.toMillis(), ...time.getPossibleOffsets().map((one) => one.toMillis()));

/** How many times lie in (from, until]; counted up to a bound. */
export function timesBetween(schedule: Schedule, from: number, until: number, anchor: number, most = 1_000): number {
  let count = 0;
  for (let at = nextTime(schedule, from, anchor); at <= until && count < most; at = nextTime(schedule, at, anchor))
    count++;
  return count;
}

const two = (number: number): string => String(number).padStart(2, '0');

/** `every 1d`, `05:00 Europe/Oslo, mon 07:30 Asia/Tokyo` */
export const scheduleText = (schedule: Schedule): string =>
  'everyMs' in schedule
    ? `every ${durationSource(schedule.everyMs)}`
    : schedule.at
        .map(
          ({ weekday, hour, minute, zone }) =>
            `${weekday === null ? '' : `${weekdays[weekday - 1]} `}${two(hour)}:${two(minute)} ${zone}`,
        )
        .join(', ');
