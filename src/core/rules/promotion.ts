/** May this release be promoted there, and why not: each rule as a check with its evidence. */
import { issue, type Issue } from '../errors/errors.js';

export interface PromotionFacts {
  environment: string;
  after: string | null;
  release: number;
  liveRelease: number | null;
  held: boolean;
  heldWhy: string;
  moving: boolean;
  closed: boolean;
  /** The environment before checks what it takes. */
  verifies: boolean;
  /** Evidence that refers to the release's digest. */
  tasks: { name: string; state: string; run: number; tests: number | null }[];
  verification: { environment: string; deployment: number; at: string } | null;
  /** Release was live in the environment before. */
  wasLiveBefore: boolean;
  unset: string[];
}

export interface Check {
  rule: 'tasks' | 'verified' | 'live before' | 'not on hold' | 'variables' | 'open' | 'free';
  met: boolean;
  /** The words of the check. */
  says: string;
  /** Where the evidence is: `run 130`, `d17`. */
  source: string | null;
}

export interface Judgement {
  allowed: boolean;
  checks: Check[];
  /** Why not, when it is not allowed. */
  refusal: Issue | null;
}

export function judgePromotion(facts: PromotionFacts): Judgement {
  const release = `r${facts.release}`;
  const checks: Check[] = facts.tasks.map((task) => ({
    rule: 'tasks',
    met: task.state === 'passed' || task.state === 'reused',
    says: task.tests === null ? task.name : `${task.name}, ${task.tests} ${task.tests === 1 ? 'test' : 'tests'}`,
    source: `run ${task.run}`,
  }));
  if (facts.after !== null && facts.verifies) {
    const found = facts.verification;
    checks.push({
      rule: 'verified',
      met: found !== null,
      says: found ? `verified in ${facts.after}` : `not verified in ${facts.after}`,
      source: found ? `d${found.deployment}` : null,
    });
  } else if (facts.after !== null) {
    checks.push({
      rule: 'live before',
      met: facts.wasLiveBefore,
      says: facts.wasLiveBefore ? `was live in ${facts.after}` : `was never live in ${facts.after}`,
      source: null,
    });
  }
  checks.push({
    rule: 'not on hold',
    met: !facts.held,
    says: facts.held ? `on hold: ${facts.heldWhy}` : 'not on hold',
    source: null,
  });
  if (facts.unset.length)
    checks.push({ rule: 'variables', met: false, says: `not set: ${facts.unset.join(', ')}`, source: null });
  if (facts.closed) checks.push({ rule: 'open', met: false, says: 'closed', source: null });
  if (facts.moving) checks.push({ rule: 'free', met: false, says: 'another deployment is on its way', source: null });
  if (facts.liveRelease === facts.release)
    return { allowed: false, checks, refusal: issue('already_live', { release, environment: facts.environment }) };
  const missing = checks.filter((check) => !check.met);
  if (missing.length === 0) return { allowed: true, checks, refusal: null };
  if (facts.held)
    return {
      allowed: false,
      checks,
      refusal: issue('environment_held', { environment: facts.environment, why: facts.heldWhy }),
    };
  const why = missing.map((check) => check.says).join('; ');
  const next = missing.some((check) => check.rule === 'verified')
    ? `Deploy ${release} to ${facts.after} and let it be verified there.`
    : 'Wait until this is met, or look at the promotion page.';
  return {
    allowed: false,
    checks,
    refusal: issue('not_promotable', { release, environment: facts.environment, why: `${why}.`, next }),
  };
}
