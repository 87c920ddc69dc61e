/**
 * A run that no agent can take: no agent is connected, or none has the tools that its definition names. It waits, because one may be
 * added. It is a condition after a minute, and fails after a day.
 */

/** Milliseconds after which it is a condition. */
export const unplacedToldMs = 60_000;
/** Milliseconds after which it fails. */
export const unplacedMostMs = 24 * 3_600_000;

/** What becomes of a run for which no agent has been found for `waitedMs`; `againMs`: milliseconds until agents are looked at again. */
export const unplaced = (waitedMs: number): { ends: true } | { ends: false; againMs: number } =>
  waitedMs >= unplacedMostMs ? { ends: true } : { ends: false, againMs: waitedMs < unplacedToldMs ? 2_000 : 10_000 };
