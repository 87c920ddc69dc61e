/**
 * Snapshots: copies of a database in use that nobody uses, beside those of reviews, from which reviews get their data. What is in one is
 * seen by nobody before the copied environment's own code has made it fit for others (scrub). Each call gets the facts and says what is to
 * be done outside; with the outcome of that, what is to be recorded.
 *
 * | state     | in it                                                         | left when                                                |
 * |-----------|---------------------------------------------------------------|----------------------------------------------------------|
 * | asked     | a review waits for it, or a person has asked                   | somebody takes it → copying; not wanted any more → removing |
 * | copying   | the source is written out and read in beside it; gives way to a prepare of the source | whole → scrubbing; refused, or tried too often → removing |
 * | scrubbing | scrub runs at an agent, with a login to it alone               | passed → settling; failed → removing; lost → copying, a few times |
 * | settling  | what is left is written anew: nothing of before is in its files or its statistics; then nobody may enter | done → ready; refused → removing |
 * | ready     | reviews are made of it                                         | a newer one is ready, or nobody may copy its source any more → removing |
 * | removing  | it goes from its server                                        | gone → failed where why is said, else removed             |
 * | failed    | final: why is said                                             |                                                          |
 * | removed   | final                                                          |                                                          |
 */
import { backoff } from '../backoff.js';
import { canonical } from '../canonical.js';
import type { ScrubPlan } from '../definition/model.js';
import { type Issue, issue } from '../errors/errors.js';
import { type AttemptState, snapshotComing, type SnapshotState } from '../states.js';
import { mostTries, type Outcome } from './resources.js';

export interface SnapshotFacts {
  state: SnapshotState;
  /** Its source may still be copied, with the scrub that it has gone through (`scrubStands`), and no newer one has taken its place. */
  wanted: boolean;
  /** Acts in a row that did not succeed. */
  tries: number;
  /** Why it fails, once that is known. */
  issue: Issue | null;
  /** Copies of which the scrub was lost. */
  lost: number;
  /** The scrub of this copy. */
  scrub: { state: AttemptState; why: string } | null;
}

export type SnapshotAct = 'copy' | 'scrub' | 'settle' | 'remove';

export interface SnapshotStep {
  state: SnapshotState;
  issue: Issue | null;
  tries: number;
  /** Milliseconds until to look again; null: only when something has happened. */
  againMs: number | null;
}

/** Copies whose scrub was lost with its agent, before a person must look. */
export const mostLost = 3;

/**
 * What is to be done outside now, in the state that is recorded while it is done; with `fails` that it can't be had, and why. Null: it
 * waits for something, or nothing is to be done.
 */
export function snapshotAct(
  facts: SnapshotFacts,
): { act: SnapshotAct; state: SnapshotState; fails?: Issue; again?: true } | null {
  const { state, wanted, scrub } = facts;
  switch (state) {
    case 'failed':
    case 'removed':
      return null;
    case 'removing':
      return { act: 'remove', state };
    case 'asked':
    case 'copying':
      return wanted ? { act: 'copy', state: 'copying' } : { act: 'remove', state: 'removing' };
    case 'scrubbing': {
      if (!wanted) return { act: 'remove', state: 'removing' };
      if (scrub === null) return { act: 'scrub', state };
      if (scrub.state === 'passed') return { act: 'settle', state: 'settling' };
      // Nobody knows how far it got: what it left half done is no copy to go on with.
      if (scrub.state === 'lost')
        return facts.lost < mostLost
          ? { act: 'copy', state: 'copying', again: true }
          : { act: 'remove', state: 'removing', fails: issue('scrub_unknown') };
      if (scrub.state === 'failed' || scrub.state === 'stopped')
        return { act: 'remove', state: 'removing', fails: issue('scrub_failed', { detail: scrub.why }) };
      return null;
    }
    case 'settling':
      return wanted ? { act: 'settle', state } : { act: 'remove', state: 'removing' };
    case 'ready':
      return wanted ? null : { act: 'remove', state: 'removing' };
    default:
      return state satisfies never;
  }
}

/** What is to be recorded when `act` has come to this; `facts` with what was recorded when it began. */
export function snapshotDone(facts: SnapshotFacts, act: SnapshotAct, outcome: Outcome): SnapshotStep {
  if (outcome.done) {
    if (act === 'remove')
      return { state: facts.issue ? 'failed' : 'removed', issue: facts.issue, tries: 0, againMs: null };
    const state = act === 'settle' ? 'ready' : 'scrubbing';
    // With the copy the scrub follows at once; that one is heard of when it ends.
    return { state, issue: null, tries: 0, againMs: act === 'copy' ? 0 : null };
  }
  const tries = facts.tries + 1;
  const later = { tries, againMs: backoff('resource', tries) };
  // What has begun to go is tried for as long as it takes.
  if (act === 'remove') return { state: 'removing', issue: facts.issue, ...later };
  const state = act === 'copy' ? 'copying' : act === 'settle' ? 'settling' : 'scrubbing';
  if (outcome.again && tries < mostTries) return { state, issue: outcome.issue, ...later };
  return { state: 'removing', issue: outcome.issue, tries: 0, againMs: 0 };
}

/** Why a snapshot that is on its way out does: what stands with one that is tried again is no reason yet. */
export const failedWith = (state: SnapshotState, why: Issue | null): Issue | null =>
  state === 'removing' || state === 'failed' ? why : null;

/**
 * Whether the scrub that a snapshot has gone through, or is in, is the one that is permitted now. One that has not been copied yet has none:
 * it gets the one of that moment.
 */
export const scrubStands = (
  { state, scrub }: { state: SnapshotState; scrub: ScrubPlan | null },
  permitted: ScrubPlan | null,
): boolean =>
  permitted !== null &&
  (state === 'asked' || state === 'copying' || scrub === null || canonical(scrub) === canonical(permitted));

/** What is known of one when a review asks for data. */
export interface Known {
  id: string;
  state: SnapshotState;
  issue: Issue | null;
  /** The moment of which it is; milliseconds since the epoch. */
  of: number | null;
  /** When it came to its end. */
  ended: number | null;
  /** The deployment whose code scrubbed it, or would have. */
  deployment: string | null;
}

/** Milliseconds for which one that failed is not tried again, unless another release is live in its source by then. */
export const failedForMs = 3_600_000;

export type Chosen =
  /** Data is made of that one; `late` says why there is none as fresh as was asked for. */
  { use: string; late: Issue | null; ask: boolean } | { wait: string } | { ask: true } | { none: Issue };

/**
 * Which snapshot new data is made of. One that is fresh enough is used at once; in the second half of its time another is asked for
 * meanwhile, so that the next review need not wait.
 */
export function chooseSnapshot(
  known: readonly Known[],
  { now, freshMs, live }: { now: number; freshMs: number; live: string | null },
): Chosen {
  const newest = (such: (one: Known) => boolean) =>
    known.filter(such).sort((a, b) => (b.of ?? b.ended ?? 0) - (a.of ?? a.ended ?? 0))[0];
  const ready = newest((one) => one.state === 'ready');
  const coming = newest((one) => snapshotComing(one.state));
  const failed = newest((one) => failedWith(one.state, one.issue) !== null && (one.ended ?? now) > now - failedForMs);
  const again = failed === undefined || failed.deployment !== live;
  const age = ready ? now - (ready.of ?? 0) : Number.POSITIVE_INFINITY;
  if (ready && age <= freshMs) return { use: ready.id, late: null, ask: !coming && again && age > freshMs / 2 };
  if (coming) return { wait: coming.id };
  if (again) return { ask: true };
  const why = failed?.issue ?? issue('scrub_unknown');
  return ready ? { use: ready.id, late: why, ask: false } : { none: why };
}
