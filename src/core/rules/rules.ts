/**
 * May this release be promoted there: each rule is judged by itself, from facts alone, whenever traffic is to be moved. A rule is met,
 * is not met, waits until a time, or needs somebody; and says what would change it.
 */
import { durationText } from '../durations.js';

export const ruleStates = ['met', 'not met', 'waits', 'needs'] as const;
export type RuleState = (typeof ruleStates)[number];

export type RuleName =
  | 'tasks'
  | 'verified'
  | 'live before'
  | 'healthy'
  | 'approvals'
  | 'frozen hours'
  | 'freeze'
  | 'not on hold'
  | 'variables'
  | 'open'
  | 'free';

/** What an owner may override, with a reason; of the rest there is nothing to override: it could not run, or has run already. */
export const overridable: readonly RuleName[] = [
  'tasks',
  'verified',
  'live before',
  'healthy',
  'approvals',
  'frozen hours',
  'freeze',
  'not on hold',
];

export interface RuleAnswer {
  rule: RuleName;
  state: RuleState;
  /** The rule and how it stands, in words. */
  says: string;
  /** Where the evidence is: `run 130`, `d17`. */
  source: string | null;
  /** What would change it; null: it is met, or time alone does. */
  change: string | null;
  /** Of one that waits: milliseconds since the epoch. */
  until: number | null;
  /** Of one that needs somebody. */
  whom: string | null;
}

export const answer = (rule: RuleName, state: RuleState, says: string, more: Partial<RuleAnswer> = {}): RuleAnswer => ({
  rule,
  state,
  says,
  source: null,
  change: null,
  until: null,
  whom: null,
  ...more,
});

/** In how good health the release was in the environment before. Milliseconds. */
export interface HealthFacts {
  environment: string;
  /** For so long without a pause. */
  needed: number;
  /** The longest that it was, as evidence has it. */
  longest: number;
  /** Since when it is so now; null: it is not live there, or in poor health. */
  since: number | null;
  source: string | null;
}

export function judgeHealth({ environment, needed, longest, since, source }: HealthFacts, now: number): RuleAnswer {
  const whole = `in good health in ${environment} for ${durationText(needed)}`;
  if (longest >= needed) return answer('healthy', 'met', whole, { source });
  if (since === null)
    return answer('healthy', 'not met', `not ${whole}: it is not live there in good health now`, {
      change: `Deploy it to ${environment}, or see there why its health is poor.`,
    });
  const passed = Math.max(0, now - since);
  if (passed >= needed) return answer('healthy', 'met', whole, { source });
  return answer(
    'healthy',
    'waits',
    `in good health in ${environment} for ${durationText(passed)} of ${durationText(needed)}`,
    {
      until: since + needed,
    },
  );
}

export interface Approval {
  /** Id of the person, and as people know them. */
  person: string;
  name: string;
  /** Of what: an approval is of bytes, not of a number. */
  digest: string;
  /** Milliseconds since the epoch. */
  at: number;
  /** Their role lets them approve, now. */
  may: boolean;
  /** Taken back by them, or because a newer release came. */
  withdrawn: boolean;
}

export interface ApprovalFacts {
  needed: number;
  digest: string;
  approvals: readonly Approval[];
  /** Ids of those whose commits it brings. */
  authors: readonly string[];
  /** Number of the release, and the environment (`sailings/production`), for the command that approves. */
  release: number;
  environment: string;
}

/** Each person once; of this very digest; by those who may. */
export function countingApprovals({ digest, approvals }: Pick<ApprovalFacts, 'digest' | 'approvals'>): Approval[] {
  const counting = new Map<string, Approval>();
  for (const one of approvals)
    if (one.digest === digest && one.may && !one.withdrawn && !counting.has(one.person)) counting.set(one.person, one);
  return [...counting.values()];
}

export function judgeApprovals(facts: ApprovalFacts): RuleAnswer {
  const { needed, authors } = facts;
  const counting = countingApprovals(facts);
  const others = counting.filter(({ person }) => !authors.includes(person));
  const names = counting.map(({ name }) => name).join(', ');
  const says = `${Math.min(counting.length, needed)} of ${needed} ${needed === 1 ? 'approval' : 'approvals'}${names ? `: ${names}` : ''}`;
  const source = counting.length ? `of ${facts.digest.replace('sha256:', '').slice(0, 12)}` : null;
  if (counting.length >= needed && others.length > 0) return answer('approvals', 'met', says, { source });
  const alone = counting.length >= needed;
  const missing = Math.max(1, needed - counting.length);
  const whom =
    alone || (others.length === 0 && missing === 1)
      ? 'a releaser who is not its author'
      : missing === 1
        ? 'one more releaser'
        : `${missing} more releasers`;
  return answer('approvals', 'needs', alone ? `${says}, who wrote it` : says, {
    source,
    whom,
    change: `Approve it on its page, or with \`tsunagi approve r${facts.release} --for ${facts.environment}\`.`,
  });
}

export interface FreezeFacts {
  /** Frozen hours now; `until` null: nothing is free in sight. */
  hours: { text: string; until: number | null } | null;
  /** An owner's, by hand; `until` null: until it is lifted. */
  freeze: { by: string; why: string; until: number | null } | null;
}

export function judgeFreezes({ hours, freeze }: FreezeFacts, now: number): RuleAnswer[] {
  const answers: RuleAnswer[] = [];
  if (hours)
    answers.push(
      answer('frozen hours', hours.until === null ? 'not met' : 'waits', `frozen: ${hours.text}`, {
        until: hours.until,
        change: hours.until === null ? 'Its frozen hours leave no time free: change them in the definition.' : null,
      }),
    );
  if (freeze && (freeze.until === null || freeze.until > now))
    answers.push(
      answer('freeze', freeze.until === null ? 'needs' : 'waits', `frozen by ${freeze.by}: ${freeze.why}`, {
        until: freeze.until,
        whom: freeze.until === null ? 'an owner, to lift it' : null,
      }),
    );
  return answers;
}

/** A time in words, for a refusal; 0: nobody knows. */
export const untilText = (at: number): string =>
  at > 0 ? `${new Date(at).toISOString().slice(0, 16).replace('T', ' ')} UTC` : 'somebody changes that';

/** When all of these may be met though nobody does anything; null: somebody has to, or nothing waits. */
export function metBy(answers: readonly RuleAnswer[]): number | null {
  const unmet = answers.filter(({ state }) => state !== 'met');
  if (unmet.length === 0 || unmet.some(({ state }) => state !== 'waits')) return null;
  return Math.max(...unmet.map(({ until }) => until ?? 0));
}

/** Whether an owner's reason is enough. */
export const mayOverride = (answers: readonly RuleAnswer[]): boolean =>
  answers.every(({ state, rule }) => state === 'met' || overridable.includes(rule));
