/**
 * What is asked of the records with every request, known for a moment: forgotten as soon as a change is told, and not kept at all
 * while nobody tells.
 */
import { LRUCache } from 'lru-cache';
import type { Hub } from './hub.js';

export interface Known<T> {
  /** What `load` gave for this key within the last moment, or gives now; what is not there is not kept. */
  get(key: string, load: () => Promise<T | null>): Promise<T | null>;
  /** Forgets everything. */
  clear(): void;
}

/** Milliseconds for which it is known at most. */
const knownMs = 5_000;
const mostKnown = 5_000;

export function makeKnown<T extends NonNullable<unknown>>(hub: Hub, topic: string, now: () => number): Known<T> {
  const values = new LRUCache<string, T>({ max: mostKnown, ttl: knownMs, ttlResolution: 0, perf: { now } });
  let generation = 0;
  const clear = () => {
    generation++;
    values.clear();
  };
  hub.on((heard) => heard === topic, clear);
  return {
    clear,
    async get(key, load) {
      const known = hub.deaf() ? undefined : values.get(key);
      if (known) return known;
      const asked = generation;
      const value = await load();
      // What has changed since it was asked is not kept.
      if (value !== null && asked === generation && !hub.deaf()) values.set(key, value);
      return value;
    },
  };
}
