/**
 * How often something took how long, as counts by length: small enough to keep one a day, and spreads of many days add up to that of
 * all of them. A length is known to within 5 %: each bucket is a tenth longer than the one before it.
 */

/** Bucket → count. Bucket k holds lengths above `shortest` × 1.1^(k-1), up to `shortest` × 1.1^k. */
export type Spread = Record<string, number>;

/** Milliseconds; what is shorter counts as that. */
const shortest = 100;
const ratio = 1.1;
/** Three years and more. */
const last = 220;

const bucketOf = (ms: number): number =>
  Math.min(last, Math.max(0, Math.ceil(Math.log(Math.max(ms, shortest) / shortest) / Math.log(ratio))));

/** Lengths in milliseconds. */
export function spreadOf(lengths: readonly number[]): Spread {
  const spread: Spread = {};
  for (const ms of lengths) {
    const bucket = bucketOf(ms);
    spread[bucket] = (spread[bucket] ?? 0) + 1;
  }
  return spread;
}

export function addSpreads(all: readonly Spread[]): Spread {
  const only = all[0];
  if (all.length === 1 && only) return only;
  const sum: Spread = {};
  for (const one of all) for (const bucket in one) sum[bucket] = (sum[bucket] ?? 0) + (one[bucket] as number);
  return sum;
}

export function countOf(spread: Spread): number {
  let count = 0;
  for (const bucket in spread) count += spread[bucket] as number;
  return count;
}

/** The lengths in milliseconds that so much of them (0 to 1, rising) is at most; null where there is none. */
export function quantilesOf(spread: Spread, shares: readonly number[]): (number | null)[] {
  const total = countOf(spread);
  const found: (number | null)[] = [];
  let below = 0;
  // Names that are whole numbers come in their order (ECMA-262, 10.1.11).
  for (const bucket in spread) {
    below += spread[bucket] ?? 0;
    while (found.length < shares.length && below >= (shares[found.length] as number) * total)
      found.push(Math.round(bucket === '0' ? shortest : shortest * ratio ** (Number(bucket) - 0.5)));
    if (found.length === shares.length) break;
  }
  while (found.length < shares.length) found.push(null);
  return found;
}

/** The same of one. In a bucket it is the middle, as lengths grow in it. */
export const quantileOf = (spread: Spread, share: number): number | null => quantilesOf(spread, [share])[0] ?? null;
