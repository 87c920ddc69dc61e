/**
 * A resource of an environment: asked for by a deployment, made on a server outside the records, and removed with its environment or by
 * a person. Each call gets the facts and says what is to be done outside; with the outcome of that, what is to be recorded. What is done
 * outside may be done twice (names carry ids), so that whoever does it may die at any time.
 *
 * | state    | in it                                            | left when                                                   |
 * |----------|--------------------------------------------------|-------------------------------------------------------------|
 * | asked    | wanted, and nothing was begun                     | somebody takes it → making, for a copy once its snapshot is there; no longer wanted → removing |
 * | making   | its server is asked for it, again after a while where it does not answer | it is there → ready; refused, or asked too often → failed; no longer wanted → removing |
 * | ready    | programs may start with it; logins are made and ended; who may write follows from its size (`sizes.ts`) | no longer wanted → removing; planned otherwise, or a backup is to take its place → asked |
 * | removing | logins and sessions end, then it goes             | nothing is left → removed                                   |
 * | removed  | final; another one of its name is a new resource  |                                                             |
 * | failed   | why is said                                       | asked for again → asked; no longer wanted → removing        |
 */
import type { Issue } from '../errors/errors.js';
import { backoff } from '../backoff.js';
import type { ResourceState } from '../states.js';

/** What came of an act outside: done, to be tried again, or not to be had at all. */
export type Outcome = { done: true } | { done: false; again: boolean; issue: Issue };

export interface ResourceFacts {
  state: ResourceState;
  /** Its environment is open and nobody has removed it. */
  wanted: boolean;
  /** Acts in a row that did not succeed. */
  tries: number;
  /** Logins that are to be made or ended. */
  logins: number;
  /** Its server was told otherwise of who may write than what follows from its size. */
  access: boolean;
  /** A backup is to take the place of what is there. */
  restore: boolean;
  /** It is to begin as a copy of what is not there yet. */
  waits: boolean;
}

export type ResourceAct = 'make' | 'restore' | 'logins' | 'access' | 'remove';

export interface ResourceStep {
  state: ResourceState;
  issue: Issue | null;
  tries: number;
  /** Milliseconds until to look again; null: only when something has happened. */
  againMs: number | null;
}

/** Acts that fail in a row before a person must look; with their pauses it is a few minutes. */
export const mostTries = 8;

/** What is to be done outside now, in the state that is recorded while it is done; null: nothing. */
export function resourceAct({
  state,
  wanted,
  logins,
  access,
  restore,
  waits,
}: ResourceFacts): { act: ResourceAct; state: ResourceState } | null {
  switch (state) {
    case 'removed':
      return null;
    case 'removing':
      return { act: 'remove', state };
    case 'asked':
    case 'making':
      if (!wanted) return { act: 'remove', state: 'removing' };
      if (waits) return null;
      return { act: restore ? 'restore' : 'make', state: 'making' };
    case 'failed':
      return wanted ? null : { act: 'remove', state: 'removing' };
    case 'ready':
      if (!wanted) return { act: 'remove', state: 'removing' };
      if (logins > 0) return { act: 'logins', state };
      return access ? { act: 'access', state } : null;
    default:
      return state satisfies never;
  }
}

/** What is to be recorded when `act` has come to this. */
export function resourceDone(facts: ResourceFacts, act: ResourceAct, outcome: Outcome): ResourceStep {
  if (outcome.done) {
    const state = act === 'remove' ? 'removed' : 'ready';
    return { state, issue: null, tries: 0, againMs: null };
  }
  const tries = facts.tries + 1;
  const later = { issue: outcome.issue, tries, againMs: backoff('resource', tries) };
  // What has begun to go is tried for as long as it takes: nothing is left behind in silence.
  if (act === 'remove') return { state: 'removing', ...later };
  // A login that can't be made or ended takes nothing from the programs that run with theirs; nor does a server that can't be told.
  if (act === 'logins' || act === 'access') return { state: 'ready', ...later };
  if (outcome.again && tries < mostTries) return { state: 'making', ...later };
  // What was there before is there still.
  if (act === 'restore') return { state: 'ready', issue: outcome.issue, tries: 0, againMs: null };
  return { state: 'failed', issue: outcome.issue, tries, againMs: null };
}
