/**
 * Agents that wait here for work: a step that makes some gives it to them at once, with the same statement. Only what makes an
 * answer quicker stands here; work that nobody here waits for is claimed with the next question, as ever.
 */
import type { AttemptRow } from '../../records/runs/attempts.js';
import type { Claim } from '../../records/runs/steps.js';

export interface Takers {
  /** Waits until it is given work, or until the returned function is called; an agent's newest question counts. */
  wait(claim: Claim, given: (rows: AttemptRow[]) => void): () => void;
  /** What those that wait may be given, a few of them: a step is not to grow with the number of agents. */
  claims(): Claim[];
  /** Hands out what was claimed; gives what nobody waits for any more. */
  give(rows: readonly AttemptRow[]): AttemptRow[];
}

/** Agents that one step claims for. */
const mostClaims = 4;

export function openTakers(): Takers {
  const waiting = new Map<string, { claim: Claim; given: (rows: AttemptRow[]) => void }>();
  return {
    wait(claim, given) {
      const one = { claim, given };
      waiting.set(claim.agent, one);
      return () => {
        if (waiting.get(claim.agent) === one) waiting.delete(claim.agent);
      };
    },
    claims: () => [...waiting.values()].slice(0, mostClaims).map((one) => one.claim),
    give(rows) {
      const left = new Set(rows);
      for (const [agent, taker] of [...waiting]) {
        const own = rows.filter((row) => row.agent_id === agent);
        if (own.length === 0) continue;
        for (const row of own) left.delete(row);
        waiting.delete(agent);
        taker.given(own);
      }
      return [...left];
    },
  };
}
