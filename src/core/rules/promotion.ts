/** May this release be taken there: all rules that count, from facts alone, judged anew whenever traffic is to be moved. */
import { frozenAt, parseFrozen } from '../calendar/frozen.js';
import { issue, type Issue } from '../errors/errors.js';
import { type Act, unmetFor } from './gate.js';
import type { Rules } from './in-force.js';
import {
  answer,
  type Approval,
  type FreezeFacts,
  type HealthFacts,
  judgeApprovals,
  judgeFreezes,
  judgeHealth,
  mayOverride,
  metBy,
  type RuleAnswer,
  type RuleName,
  untilText,
} from './rules.js';

export interface PromotionFacts {
  /** This and all other times: milliseconds since the epoch. */
  now: number;
  /** `sailings/production`. */
  environment: string;
  rules: Rules;
  release: number;
  digest: string;
  liveRelease: number | null;
  held: boolean;
  heldWhy: string;
  moving: boolean;
  closed: boolean;
  /** Evidence that refers to the release's digest. */
  tasks: { name: string; state: string; run: number; tests: number | null }[];
  /** Where and as what it was made, where that was not here; in words. */
  imported: string | null;
  verification: { environment: string; deployment: number; at: string } | null;
  /** Release was live in the environment before. */
  wasLiveBefore: boolean;
  health: Pick<HealthFacts, 'longest' | 'since' | 'source'>;
  approvals: readonly Approval[];
  /** Of those who have approved: who has written some of what it brings. Ids. */
  authors: readonly string[];
  /** By hand, of an owner. */
  freeze: FreezeFacts['freeze'];
  unset: string[];
  /** An owner takes it though these are not met. */
  override: readonly RuleName[] | null;
}

export interface Judgement {
  allowed: boolean;
  answers: RuleAnswer[];
  /** Why not, when it is not allowed. */
  refusal: Issue | null;
  /** When it may be allowed though nobody does anything: milliseconds since the epoch. */
  until: number | null;
  /** An owner may take it nevertheless, with a reason. */
  overridable: boolean;
}

export function judgePromotion(facts: PromotionFacts): Judgement {
  const answers = answersTo(facts);
  const unmet = answers.filter((one) => one.state !== 'met');
  const counting = facts.override ? unmet.filter(({ rule }) => !facts.override?.includes(rule)) : unmet;
  const release = `r${facts.release}`;
  const judged = (refusal: Issue | null): Judgement => ({
    allowed: refusal === null,
    answers,
    refusal,
    until: refusal === null ? null : metBy(counting),
    overridable: unmet.length > 0 && mayOverride(unmet),
  });
  if (facts.liveRelease === facts.release) {
    const judgement = judged(issue('already_live', { release, environment: facts.environment }));
    return { ...judgement, until: null, overridable: false };
  }
  if (counting.length === 0) return judged(null);
  if (facts.held && !facts.override)
    return judged(issue('environment_held', { environment: facts.environment, why: facts.heldWhy }));
  return judged(
    issue('not_promotable', {
      release,
      environment: facts.environment,
      why: `${counting.map((one) => one.says).join('; ')}.`,
      next: counting.find((one) => one.change)?.change ?? nextFor(counting[0] as RuleAnswer),
    }),
  );
}

/** Rules that keep the traffic from moving to it now; none: it may. */
export const judgeMove = (facts: PromotionFacts, act: Act): RuleAnswer[] =>
  unmetFor(act, answersTo(facts), true).filter(({ rule }) => !facts.override?.includes(rule));

export function nextFor({ until, whom }: RuleAnswer): string {
  if (until !== null) return `Wait until ${untilText(until)}.`;
  return whom ? `It needs ${whom}.` : 'Wait until this is met, or look at the promotion page.';
}

/** What holds up all but reverts: frozen hours, and an owner's freeze; none where it is not frozen. */
export function frozenNow({ frozen }: Pick<Rules, 'frozen'>, freeze: FreezeFacts['freeze'], now: number): RuleAnswer[] {
  const windows = frozen.flatMap((text) => parseFrozen(text) ?? []);
  return judgeFreezes({ hours: frozenAt(windows, now), freeze }, now);
}

/** Every rule, and how it is. */
export function answersTo(facts: PromotionFacts): RuleAnswer[] {
  const { rules, now } = facts;
  const { after } = rules;
  const answers = facts.tasks.map((task) =>
    answer(
      'tasks',
      task.state === 'passed' || task.state === 'reused' ? 'met' : 'not met',
      task.tests === null ? task.name : `${task.name}, ${task.tests} ${task.tests === 1 ? 'test' : 'tests'}`,
      { source: `run ${task.run}` },
    ),
  );
  if (facts.imported !== null) answers.push(answer('tasks', 'met', facts.imported, { source: 'import' }));
  if (after !== null) {
    const found = facts.verification;
    const change = `Deploy r${facts.release} to ${after} and let it be verified there.`;
    if (rules.verified)
      answers.push(
        answer('verified', found ? 'met' : 'not met', found ? `verified in ${after}` : `not verified in ${after}`, {
          source: found ? `d${found.deployment}` : null,
          change: found ? null : change,
        }),
      );
    else
      answers.push(
        answer(
          'live before',
          facts.wasLiveBefore ? 'met' : 'not met',
          facts.wasLiveBefore ? `was live in ${after}` : `was never live in ${after}`,
          { change: facts.wasLiveBefore ? null : `Deploy r${facts.release} to ${after}.` },
        ),
      );
    if (rules.healthy > 0)
      answers.push(judgeHealth({ ...facts.health, environment: after, needed: rules.healthy }, now));
  }
  if (rules.approvals > 0)
    answers.push(
      judgeApprovals({
        needed: rules.approvals,
        digest: facts.digest,
        approvals: facts.approvals,
        authors: facts.authors,
        release: facts.release,
        environment: facts.environment,
      }),
    );
  answers.push(...frozenNow(rules, facts.freeze, now));
  if (rules.frozen.length && !answers.some(({ rule }) => rule === 'frozen hours'))
    answers.push(answer('frozen hours', 'met', 'not in frozen hours'));
  answers.push(
    answer('not on hold', facts.held ? 'needs' : 'met', facts.held ? `on hold: ${facts.heldWhy}` : 'not on hold', {
      whom: facts.held ? 'a releaser, to lift it' : null,
      change: facts.held ? `Lift the hold first: \`tsunagi lift ${facts.environment}\`.` : null,
    }),
  );
  if (facts.unset.length)
    answers.push(
      answer('variables', 'not met', `not set: ${facts.unset.join(', ')}`, {
        change: 'Set them, with `tsunagi variable set`.',
      }),
    );
  if (facts.closed) answers.push(answer('open', 'not met', 'closed'));
  if (facts.moving)
    answers.push(
      answer('free', 'not met', 'another deployment is on its way', {
        change: 'Wait until it has ended, or end it with `tsunagi revert`.',
      }),
    );
  return answers;
}
