/**
 * A destination of logs. It is sent to in rounds; a stream's position moves when what lies before it was accepted, or can never be.
 *
 * | a round comes to | what follows                                                                        |
 * |------------------|-------------------------------------------------------------------------------------|
 * | accepted         | positions move; the next round at once where there is more, else after a moment      |
 * | refused for good | positions move, since the same would be refused again: what was left out is counted   |
 * | not accepted     | nothing moves; again after a pause that doubles. What is too old meanwhile is left out |
 */
import { backoff } from '../backoff.js';
import type { Issue } from '../errors/errors.js';

/** What a way out says of one round; `rejected`: lines that it took and will not keep. */
export type LogsSent =
  | { done: true; rejected: number; why: string | null }
  /** `final`: of these very lines; anything else may be mended outside. */
  | { done: false; final: boolean; issue: Issue };

export interface DestinationStep {
  /** Positions move. */
  moves: boolean;
  /** What was sent counts as left out. */
  leftOut: boolean;
  tries: number;
  issue: Issue | null;
  againMs: number;
}

/** Milliseconds between two rounds where there was nothing more. */
export const momentMs = 1_000;

export function destinationDone(tries: number, more: boolean, sent: LogsSent): DestinationStep {
  const againMs = more ? 0 : momentMs;
  if (sent.done) return { moves: true, leftOut: false, tries: 0, issue: null, againMs };
  if (sent.final) return { moves: true, leftOut: true, tries: 0, issue: sent.issue, againMs };
  return { moves: false, leftOut: false, tries: tries + 1, issue: sent.issue, againMs: backoff('delivery', tries + 1) };
}
