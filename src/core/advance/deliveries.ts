/**
 * One telling of something to a subscription: in the order of the record, one at a time.
 *
 * | state     | in it                                       | left when                                                     |
 * |-----------|---------------------------------------------|---------------------------------------------------------------|
 * | waiting   | what belongs to it is gathered; then it is sent, again after a pause that doubles | taken → delivered; refused for good, or for two days → given up |
 * | delivered | final                                        |                                                               |
 * | given up  | final; why is said, and the next one is sent |                                                               |
 */
import { backoff } from '../backoff.js';
import type { Issue } from '../errors/errors.js';
import type { DeliveryState } from '../states.js';

/** What a way out says of one message. */
export type Sent = { done: true } | { done: false; again: boolean; issue: Issue };

export interface DeliveryStep {
  state: DeliveryState;
  tries: number;
  issue: Issue | null;
  /** Milliseconds until it is sent again; null: never. */
  againMs: number | null;
}

/** Milliseconds for which one is sent again and again. */
export const patientMs = 2 * 24 * 3_600_000;

/** What is to be recorded when it was sent. `ageMs`: since it was made. */
export function deliveryDone(tries: number, ageMs: number, sent: Sent): DeliveryStep {
  if (sent.done) return { state: 'delivered', tries: tries + 1, issue: null, againMs: null };
  if (!sent.again || ageMs >= patientMs)
    return { state: 'given up', tries: tries + 1, issue: sent.issue, againMs: null };
  return { state: 'waiting', tries: tries + 1, issue: sent.issue, againMs: backoff('delivery', tries + 1) };
}
