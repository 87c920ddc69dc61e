/**
 * What programs may do with a database that has a size: said from what is seen of it, again and again.
 *
 * | access  | in it                                             | left when                                                     |
 * |---------|---------------------------------------------------|---------------------------------------------------------------|
 * | open    | programs read and write                           | it holds its size → reading; of a stranger → shut              |
 * | reading | whoever begins anew reads, unless they say otherwise | it is well below its size → open; a fifth above it → shut    |
 * | shut    | programs do not get in                            | it is well below its size, or no longer bound → open           |
 *
 * The way back begins below the size, so that a database at its edge does not lose its sessions at each look.
 */
import type { DatabaseAccess, ResourcePlace } from '../states.js';

export interface SizeFacts {
  /** Bytes that it holds. */
  bytes: number;
  /** Bytes that it may hold; null: nothing is said. */
  most: number | null;
  place: ResourcePlace;
  access: DatabaseAccess;
}

/** Of its size: where programs get back in, and where nobody is trusted to stop by themselves. */
const backBelow = 0.95;
const shutFrom = 1.2;

export function accessFor({ bytes, most, place, access }: SizeFacts): DatabaseAccess {
  if (most === null) return 'open';
  // A session may say itself that it writes all the same; a stranger's would.
  if (bytes >= most) return place === 'untrusted' || bytes >= most * shutFrom || access === 'shut' ? 'shut' : 'reading';
  return access === 'open' || bytes < most * backBelow ? 'open' : access;
}

/** Bytes that databases may hold where their definition says nothing, by place; null: as much as there is. */
export type DatabaseSizes = Record<Exclude<ResourcePlace, 'elsewhere'>, number | null>;

export const defaultSizes: DatabaseSizes = { standing: null, review: 2 * 1024 ** 3, untrusted: 256 * 1024 ** 2 };

/** Bytes that a database may hold; what a stranger's definition says counts only where it is less. */
export function mostFor(place: ResourcePlace, size: number | null, sizes: DatabaseSizes): number | null {
  if (place === 'elsewhere') return null;
  const set = sizes[place];
  if (place !== 'untrusted' || set === null) return size ?? set;
  return Math.min(size ?? set, set);
}
