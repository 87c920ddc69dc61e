/**
 * Which commit broke it: halves the commits between one that was good and one that is bad, by what is known already. Each answer takes at
 * least the known commits off; a commit that could not be judged (its run was stopped, or failed before the task) is passed by.
 */

/** What is known of a commit: the task passed, or failed there, or could not be judged. */
export type Judged = 'good' | 'bad' | 'unclear';

export interface Halving {
  /** The oldest first; the last one is bad, and what is before the first of them is good. */
  commits: readonly string[];
  known: ReadonlyMap<string, Judged>;
}

export type Halved =
  /** To be judged next; `left`: commits that may still be the first bad one; `steps`: how many more, at most, where each can be judged. */
  | { next: string; left: number; steps: number }
  /** The first that is bad. `doubt`: others before it could not be judged, and it may be one of these. */
  | { first: string; doubt: string[] };

/**
 * What is good makes all before it good, what is bad all after it bad, as far as one commit broke it: where a good one comes after a bad
 * one it was broken, mended, and broken again, and the last time counts.
 */
export function halve({ commits, known }: Halving): Halved {
  if (commits.length === 0) throw new Error('there is nothing between the two');
  const lastGood = commits.findLastIndex((one, at) => at < commits.length - 1 && known.get(one) === 'good');
  const after = commits.slice(lastGood + 1);
  const firstBad = after.findIndex((one, at) => known.get(one) === 'bad' || at === after.length - 1);
  const suspects = after.slice(0, firstBad + 1);
  const open = suspects.slice(0, -1).filter((one) => known.get(one) !== 'unclear');
  const bad = suspects.at(-1) as string;
  if (open.length === 0) return { first: bad, doubt: suspects.slice(0, -1) };
  return {
    next: open[Math.floor((open.length - 1) / 2)] as string,
    left: suspects.length,
    steps: Math.ceil(Math.log2(open.length + 1)),
  };
}
