/**
 * How many instances a part should have, from the processor time that they took. What they take together hardly depends on how many they
 * are, so the count that it asks for is not moved by the count that there is: that keeps it from swinging.
 *
 * | what was taken … | does |
 * |---|---|
 * | over the last minute asks for more | goes there, to twice as many at most; then waits until the new ones are counted |
 * | never in the last five minutes asked for as many | goes down to the most that was asked for, to half at most; not within five minutes of a change |
 * | neither | stays |
 */
import type { Auto } from '../definition/model.js';

/** What a part took in one slot of ten seconds. */
export interface Load {
  /** Seconds since the epoch. */
  at: number;
  /** Cores, of all its instances together. */
  cores: number;
}

export interface ScaleFacts {
  /** Seconds since the epoch. */
  now: number;
  auto: Auto;
  /** How many are wanted now. */
  count: number;
  /** How many of them are ready. */
  ready: number;
  /** Cores that one may take. */
  each: number;
  /** The last five minutes. */
  loads: readonly Load[];
  /** When it was changed last, or null. */
  changedAt: number | null;
}

/** Seconds: over which more is asked for, after which more is asked for again, and in which nothing may have asked for as many before it goes down. */
const upWindow = 60;
const upPause = 40;
export const downWindow = 300;
/** Slots that must be known before anything is decided. */
const leastSlots = 3;
/** A need that is beyond a whole number by no more than this share of an instance asks for no other one. */
const slack = 0.1;

/** Instances that a load asks for, as a number with a fraction. */
const needed = (cores: number, { auto, each }: Pick<ScaleFacts, 'auto' | 'each'>): number => cores / (auto.cpu * each);
const whole = (need: number): number => Math.max(1, Math.ceil(need - slack));

/** The count to be wanted from now on; as it is where nothing speaks for another. */
export function controlled(facts: ScaleFacts): number {
  const { now, auto, count, ready, loads, changedAt } = facts;
  const within = (most: number) => loads.filter((one) => one.at >= now - most && one.at < now);
  const clamp = (value: number) => Math.min(auto.max, Math.max(auto.min, value));
  if (count !== clamp(count)) return clamp(count);
  const minute = within(upWindow);
  if (minute.length < leastSlots) return count;
  const mean = minute.reduce((sum, one) => sum + one.cores, 0) / minute.length;
  const up = clamp(Math.min(whole(needed(mean, facts)), count * 2));
  // While those that were asked for are not there, more of them would not help.
  if (up > count) return ready >= count && (changedAt === null || now - changedAt >= upPause) ? up : count;
  const long = within(downWindow);
  const covers = long.some((one) => one.at <= now - downWindow + 30);
  const highest = clamp(
    Math.max(whole(Math.max(...long.map((one) => needed(one.cores, facts)))), Math.floor(count / 2)),
  );
  if (highest < count && covers && (changedAt === null || now - changedAt >= downWindow)) return highest;
  return count;
}
