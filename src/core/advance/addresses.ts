/**
 * An address of an environment: a name under which the outside reaches it. Each call gets the facts and says what is to be done
 * outside; with the outcome of that, what is to be recorded. What is done outside may be done twice.
 *
 * | state     | in it                                             | left when                                                    |
 * |-----------|---------------------------------------------------|--------------------------------------------------------------|
 * | wanted    | its proof is looked for, for a week                | found → proven; a week has passed → failed                    |
 * | proven    | requests for it are answered; a certificate is asked for, where there is an authority | had → certified; refused for good, or too often → failed; another has proven it → wanted |
 * | certified | its certificate is used, and renewed when a third of its time is left | run out before it was renewed → proven; another has proven it → wanted |
 * | failed    | why is said                                        | somebody has it looked at again → wanted                      |
 *
 * One that the service has given is proven from the beginning. Removing one is one change of the records: nothing outside is left.
 */
import { backoff } from '../backoff.js';
import { type Issue, issue } from '../errors/errors.js';
import type { AddressKind, AddressState } from '../states.js';
import type { Outcome } from './resources.js';

export interface AddressFacts {
  state: AddressState;
  kind: AddressKind;
  /** Acts in a row that did not succeed. */
  tries: number;
  /** Milliseconds since it is in this state. */
  sinceMs: number;
  /** Somebody certifies names of this kind. */
  authority: boolean;
  /** Milliseconds until its certificate is to be renewed; null: it has none. */
  renewInMs: number | null;
  /** Its certificate is good no longer. */
  over: boolean;
}

export type AddressAct = 'prove' | 'certify';

export interface AddressStep {
  state: AddressState;
  issue: Issue | null;
  tries: number;
  /** Milliseconds until to look again; null: only when something has happened. */
  againMs: number | null;
}

/** Milliseconds for which a proof is looked for. */
export const proofMs = 7 * 24 * 3_600_000;
/** Orders that fail in a row before a person must look; with their pauses it is two days. */
export const mostOrders = 20;
/** What is left of a certificate's time when it is renewed. */
const renewShare = 1 / 3;

/** What is to be done outside now; null: nothing. */
export function addressAct({ state, kind, authority, renewInMs }: AddressFacts): AddressAct | null {
  switch (state) {
    case 'wanted':
      return kind === 'own' ? 'prove' : null;
    case 'proven':
      return authority ? 'certify' : null;
    case 'certified':
      return authority && (renewInMs === null || renewInMs <= 0) ? 'certify' : null;
    case 'failed':
      return null;
    default:
      return state satisfies never;
  }
}

/** What is to be recorded when `act` has come to this. `renewInMs` is that of the certificate that is there now. */
export function addressDone(facts: AddressFacts, act: AddressAct, outcome: Outcome): AddressStep {
  if (outcome.done)
    return act === 'prove'
      ? { state: 'proven', issue: null, tries: 0, againMs: facts.authority ? 0 : null }
      : { state: 'certified', issue: null, tries: 0, againMs: facts.renewInMs };
  const tries = facts.tries + 1;
  if (act === 'prove') {
    if (!outcome.again || facts.sinceMs >= proofMs)
      return { state: 'failed', issue: outcome.issue, tries, againMs: null };
    return { state: 'wanted', issue: outcome.issue, tries, againMs: backoff('proof', tries) };
  }
  const againMs = backoff('certificate', tries);
  // What is good still is used for as long as it is: the next try may succeed.
  if (facts.state === 'certified' && !facts.over) return { state: 'certified', issue: outcome.issue, tries, againMs };
  if (outcome.again && tries < mostOrders) return { state: 'proven', issue: outcome.issue, tries, againMs };
  return { state: 'failed', issue: outcome.issue, tries, againMs: null };
}

/** Whether requests for it are answered. */
export const answered = (state: AddressState): boolean => state === 'proven' || state === 'certified';

/** Milliseconds until a certificate is to be renewed; none or less: now. All in milliseconds since the epoch. */
export const renewIn = (from: number, until: number, now: number): number =>
  Math.round(until - (until - from) * renewShare) - now;

/** What is to be recorded when nothing is to be done: one whose certificate ran out is not certified any more. */
export function addressIdle(
  { state, renewInMs, over, tries }: AddressFacts,
  host: string,
  why: Issue | null,
): AddressStep {
  if (state === 'certified' && over)
    return { state: 'proven', issue: issue('certificate_over', { name: host }), tries: 0, againMs: null };
  return {
    state,
    issue: why,
    tries,
    againMs: state === 'certified' && renewInMs !== null ? Math.max(1_000, renewInMs) : null,
  };
}
