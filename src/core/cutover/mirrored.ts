/** What came of copies of requests, beside their originals. */
import { addInto, buckets, type Histogram } from '../figures/histogram.js';
import type { SliceCount } from './verdict.js';

export interface Mirrored {
  /** Copies whose answers were compared. */
  compared: number;
  /** Left out: too many were on their way. */
  dropped: number;
  /** Times that copies stopped because the originals took longer. */
  rested: number;
  /** Errors: 5xx, or no answer. */
  oldErrors: number;
  nowErrors: number;
  /** How many differed: by status; of the others by kind and by length. */
  status: number;
  kind: number;
  length: number;
  /** Of those that must be equal: how many were compared, and how many differed. */
  same: number;
  differ: number;
  oldTimes: Histogram;
  nowTimes: Histogram;
}

export const emptyMirrored = (): Mirrored => ({
  compared: 0,
  dropped: 0,
  rested: 0,
  oldErrors: 0,
  nowErrors: 0,
  status: 0,
  kind: 0,
  length: 0,
  same: 0,
  differ: 0,
  oldTimes: [],
  nowTimes: [],
});

export function addMirrored(before: Mirrored | null, more: Mirrored): Mirrored {
  const sum = before ?? emptyMirrored();
  const times = (a: Histogram, b: readonly number[]): Histogram => {
    const both = [...a];
    addInto(both, b.slice(0, buckets));
    return both;
  };
  return {
    compared: sum.compared + more.compared,
    dropped: sum.dropped + more.dropped,
    rested: sum.rested + more.rested,
    oldErrors: sum.oldErrors + more.oldErrors,
    nowErrors: sum.nowErrors + more.nowErrors,
    status: sum.status + more.status,
    kind: sum.kind + more.kind,
    length: sum.length + more.length,
    same: sum.same + more.same,
    differ: sum.differ + more.differ,
    oldTimes: times(sum.oldTimes, more.oldTimes),
    nowTimes: times(sum.nowTimes, more.nowTimes),
  };
}

/**
 * The same as counts of the test: each original stands beside its copy, so that both sides are of one size; and what must be equal is
 * held against a bound.
 */
export const mirroredCounts = ({ compared, oldErrors, nowErrors, same, differ }: Mirrored): SliceCount[] => [
  {
    figure: 'errors',
    part: 'mirror',
    path: '',
    old: { units: compared, bad: oldErrors },
    now: { units: compared, bad: nowErrors },
  },
  ...(same > 0
    ? [{ figure: 'same' as const, part: 'mirror', path: '', old: null, now: { units: same, bad: differ } }]
    : []),
];
