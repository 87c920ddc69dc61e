/**
 * Copies of resources, kept as stored bytes.
 *
 * | state   | in it                                    | left when                                                              |
 * |---------|------------------------------------------|------------------------------------------------------------------------|
 * | asked   | by a person, or by the plan               | somebody takes it → making                                             |
 * | making  | it is written; again after a while where the server does not answer, or a prepare began | whole → kept; refused, or tried too often → failed |
 * | kept    | it may be restored, and tried             | newer ones of the plan are enough, or a person removes it → removed    |
 * | failed  | why is said                               | final; the plan asks for another one                                   |
 * | removed | final: its bytes may go                   |                                                                        |
 */
import { backoff } from '../backoff.js';
import type { Issue } from '../errors/errors.js';
import type { BackupState } from '../states.js';
import { mostTries, type Outcome } from './resources.js';

/** What came of restoring a backup beside its resource, where nobody uses it. */
export interface BackupTried {
  passed: boolean;
  /** Of a database; null of others. */
  tables: number | null;
  rows: number | null;
  /** Of a volume. Left out by a service of before. */
  files?: number | null;
  ms: number;
  issue: Issue | null;
}

export interface BackupStep {
  state: BackupState;
  issue: Issue | null;
  tries: number;
  /** Milliseconds until it is taken again; null: no more. */
  againMs: number | null;
}

/** What is to be recorded when an attempt to write it has come to this. */
export function backupDone(tries: number, outcome: Outcome): BackupStep {
  if (outcome.done) return { state: 'kept', issue: null, tries: 0, againMs: null };
  const next = tries + 1;
  return outcome.again && next < mostTries
    ? { state: 'making', issue: outcome.issue, tries: next, againMs: backoff('resource', next) }
    : { state: 'failed', issue: outcome.issue, tries: next, againMs: null };
}

/** When the next is due; the first one at once. `last`: when the last was asked for, whatever came of it. */
export const nextOf = (everyMs: number, last: number | null, now: number): number =>
  last === null ? now : Math.max(now, last + everyMs);

/** Those of the plan that newer ones have made needless; `kept` with the newest first. */
export const needless = <T extends { planned: boolean }>(kept: readonly T[], keep: number): T[] =>
  kept.filter((one) => one.planned).slice(keep);
