/**
 * A run that no agent can take: no agent is there, or none has the tools that its definition names. It waits, because an agent may come; it
 * is shown as wrong after a minute, and ends after a day.
 */

/** Milliseconds after which it is shown as something that is wrong. */
export const unplacedToldMs = 60_000;
/** Milliseconds after which it ends. */
export const unplacedMostMs = 24 * 3_600_000;

/** What becomes of a run for which no agent has been found for `waitedMs`; `againMs`: milliseconds until agents are looked at again. */
export const unplaced = (waitedMs: number): { ends: true } | { ends: false; againMs: number } =>
  waitedMs >= unplacedMostMs ? { ends: true } : { ends: false, againMs: waitedMs < unplacedToldMs ? 2_000 : 10_000 };
