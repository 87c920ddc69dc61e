/**
 * The one format in which times are counted: 64 buckets whose bounds grow by a fourth, from half a millisecond to about ten minutes. A
 * quantile is off by at most a fourth of its value, up to ten minutes (the last bucket holds whatever took longer).
 * Two histograms are added bucket by bucket, so that they can be rolled up.
 */
export type Histogram = number[];

export const buckets = 64;
const first = 0.5;
const growth = 1.25;

/** The upper bound of a bucket in milliseconds; the last one has none. */
export const boundOf = (bucket: number): number =>
  bucket >= buckets - 1 ? Number.POSITIVE_INFINITY : first * growth ** bucket;

/** The bucket of a time. */
export function bucketOf(ms: number): number {
  if (!(ms > first)) return 0;
  return Math.min(buckets - 1, Math.ceil(Math.log(ms / first) / Math.log(growth) - 1e-9));
}

/** Counts of buckets from the first; those behind the last that counts anything are left out. */
export function add(a: Histogram, b: readonly number[]): Histogram {
  const sum = [...a];
  addInto(sum, b);
  return sum;
}

/** The same into the first of them. */
export function addInto(sum: Histogram, more: readonly number[]): void {
  const length = Math.min(more.length, buckets);
  for (let at = sum.length; at < length; at++) sum[at] = 0;
  for (let at = 0; at < length; at++) sum[at] = (sum[at] as number) + (more[at] as number);
}

export function count(histogram: Histogram, ms: number): void {
  const at = bucketOf(ms);
  for (let fill = histogram.length; fill <= at; fill++) histogram[fill] = 0;
  histogram[at] = (histogram[at] ?? 0) + 1;
}

/** The time within which this share (0 to 1) of all lies: in milliseconds, between the bounds of its bucket; null where nothing was counted. */
export function quantile(histogram: readonly number[], share: number): number | null {
  const all = histogram.reduce((sum, one) => sum + one, 0);
  if (all === 0) return null;
  const wanted = share * all;
  let below = 0;
  for (let at = 0; at < histogram.length; at++) {
    const here = histogram[at] ?? 0;
    if (here > 0 && below + here >= wanted) {
      const low = at === 0 ? 0 : boundOf(at - 1);
      const high = at >= buckets - 1 ? low * growth : boundOf(at);
      return low + ((high - low) * (wanted - below)) / here;
    }
    below += here;
  }
  return boundOf(buckets - 2);
}
