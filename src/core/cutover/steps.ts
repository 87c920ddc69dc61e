/**
 * The way of the traffic to a new release, in steps: (facts) → next step. Nothing is remembered between calls.
 *
 * | step   | in it                                                                         | left when                                    |
 * |--------|-------------------------------------------------------------------------------|----------------------------------------------|
 * | mirror | copies of safe requests go to the new release, whose answers reach nobody      | its time is over, or somebody says *go on* → the first share, or all |
 * | share  | visitors below the share are on the new side, and stay there                  | its time is over and there was enough to judge by, or `few: continue`, or somebody says *go on* → the next share, or all |
 * | all    | all of the traffic is on the new side                                          | never: what is live is kept by another rule   |
 * | back   | all of the traffic is on the side of before                                    | never                                         |
 *
 * What is worse than it may be, and whoever says *back*, lead back from everywhere before *all*; *stay* keeps a step until *go on*.
 */
import { durationText, parseDuration } from '../durations.js';
import { allTraffic } from './route.js';

export interface CutoverPlan {
  /** Milliseconds; null: no mirror. */
  mirrorMs: number | null;
  /** Rising; `share` of `allTraffic`. */
  shares: { share: number; ms: number }[];
}

export type CutoverFault =
  | 'form'
  /** A mirror stands first, and once. */
  | 'order'
  /** Shares rise, above nothing and below all. */
  | 'share'
  /** 10 s to 1 day. */
  | 'time'
  | 'many';

export const mostSteps = 10;
const [shortest, longest] = [10_000, 86_400_000];

/** `mirror for 5m`, `10% for 2m`, `2.5% for 10m`; the fault with the place of the step that has it. */
export function parseCutover(steps: readonly string[]): CutoverPlan | { fault: CutoverFault; at: number } {
  if (steps.length > mostSteps) return { fault: 'many', at: mostSteps };
  const plan: CutoverPlan = { mirrorMs: null, shares: [] };
  for (const [at, text] of steps.entries()) {
    const found = /^(?:(mirror)|(\d{1,2}(?:\.\d{1,2})?)%) for (\S+)$/.exec(text);
    const ms = found && parseDuration(found[3] as string);
    if (!found || ms === null) return { fault: 'form', at };
    if (ms < shortest || ms > longest) return { fault: 'time', at };
    if (found[1]) {
      if (at > 0) return { fault: 'order', at };
      plan.mirrorMs = ms;
      continue;
    }
    const share = Math.round((Number(found[2]) * allTraffic) / 100);
    if (share <= (plan.shares.at(-1)?.share ?? 0) || share >= allTraffic) return { fault: 'share', at };
    plan.shares.push({ share, ms });
  }
  return plan;
}

export type CutoverStep = { at: 'mirror' } | { at: 'share'; index: number } | { at: 'all' } | { at: 'back' };

export interface CutoverFacts {
  /** This and all other times: milliseconds since the epoch. */
  now: number;
  plan: CutoverPlan;
  step: CutoverStep;
  /** Since when it is in this step. */
  since: number;
  /** What somebody has asked for last in this step. */
  order: 'stay' | 'go on' | 'back' | null;
  /** Something of the new release is worse than it may be. */
  worse: boolean;
  /** There was so much traffic that twice as much that is bad would have been seen. */
  enough: boolean;
  few: 'wait' | 'continue';
  /** Milliseconds for which a share waits for enough traffic after its time. */
  fewMs: number;
}

export interface CutoverNext {
  step: CutoverStep;
  /** Its time is over, and a person has to decide: there was too little to judge by for long. */
  asks: boolean;
  /** When to look again though nothing has happened; null: only when something has. */
  again: number | null;
}

export const firstStep = (plan: CutoverPlan): CutoverStep =>
  plan.mirrorMs !== null ? { at: 'mirror' } : plan.shares.length ? { at: 'share', index: 0 } : { at: 'all' };

const nextOf = (plan: CutoverPlan, step: CutoverStep): CutoverStep => {
  const index = step.at === 'share' ? step.index + 1 : 0;
  return index < plan.shares.length ? { at: 'share', index } : { at: 'all' };
};

export function advanceCutover(facts: CutoverFacts): CutoverNext {
  const { now, plan, step, since, order } = facts;
  const stay = (again: number | null, asks = false): CutoverNext => ({ step, asks, again });
  if (step.at === 'all' || step.at === 'back') return stay(null);
  if (facts.worse || order === 'back') return { step: { at: 'back' }, asks: false, again: null };
  const next = (): CutoverNext => ({ step: nextOf(plan, step), asks: false, again: now });
  if (order === 'go on') return next();
  if (order === 'stay') return stay(null);
  const ms = step.at === 'mirror' ? (plan.mirrorMs ?? 0) : (plan.shares[step.index]?.ms ?? 0);
  const over = since + ms;
  if (now < over) return stay(over);
  if (step.at === 'mirror' || facts.enough || facts.few === 'continue') return next();
  return now < over + facts.fewMs ? stay(over + facts.fewMs) : stay(null, true);
}

/** Of `allTraffic`: what the new side has in a step. */
export function shareIn(plan: CutoverPlan, step: CutoverStep): number {
  if (step.at === 'all') return allTraffic;
  return step.at === 'share' ? (plan.shares[step.index]?.share ?? 0) : 0;
}

/** Milliseconds that are left of the way where nobody says anything and there is enough to judge by. */
export function leftMs({ now, plan, step, since }: Pick<CutoverFacts, 'now' | 'plan' | 'step' | 'since'>): number {
  if (step.at === 'all' || step.at === 'back') return 0;
  const from = step.at === 'mirror' ? 0 : step.index + 1;
  const own = step.at === 'mirror' ? (plan.mirrorMs ?? 0) : (plan.shares[step.index]?.ms ?? 0);
  const later = plan.shares.slice(from).reduce((sum, one) => sum + one.ms, 0);
  return Math.max(0, since + own - now) + later;
}

/** The way in words: `copies of requests for 5 min, 10 % for 2 min, then all of it`. */
export function wayText({ mirrorMs, shares }: CutoverPlan): string {
  const steps = [
    ...(mirrorMs === null ? [] : [`copies of requests for ${durationText(mirrorMs)}`]),
    ...shares.map(({ share, ms }) => `${share / (allTraffic / 100)} % for ${durationText(ms)}`),
    'then all of it',
  ];
  return steps.join(', ');
}

/** All of its steps, the last one with all of the traffic; `share` 0 to 1. */
export const stepsOf = ({
  mirrorMs,
  shares,
}: CutoverPlan): { at: 'mirror' | 'share' | 'all'; share: number; ms: number | null }[] => [
  ...(mirrorMs === null ? [] : [{ at: 'mirror' as const, share: 0, ms: mirrorMs }]),
  ...shares.map(({ share, ms }) => ({ at: 'share' as const, share: share / allTraffic, ms })),
  { at: 'all', share: 1, ms: null },
];

/** The way of a split: one share, which stays until somebody says otherwise. */
export const splitPlan = (share: number): CutoverPlan => ({ mirrorMs: null, shares: [{ share, ms: longest }] });
