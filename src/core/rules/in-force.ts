/**
 * The rules of an environment that count. The main branch declares them; what it declares counts at once where it asks for more than
 * before, and where it asks for less only when a releaser has accepted that: whoever can push to main could else let everything through.
 */
import type { EnvironmentPlan } from '../definition/model.js';
import { durationText } from '../durations.js';

export interface Rules {
  /** The environment whose releases it takes; null: others may be deployed there. */
  after: string | null;
  /** What is taken was verified there. */
  verified: boolean;
  /** Milliseconds in good health there; 0: none. */
  healthy: number;
  approvals: number;
  /** As `parseFrozen` reads them. */
  frozen: string[];
  /** Taken as soon as the other rules allow; else a person promotes. */
  automatic: boolean;
}

export interface Loosened {
  rule: 'after' | 'verified' | 'healthy' | 'approvals' | 'frozen hours' | 'promotion';
  /** What counts, and what is declared instead, in words. */
  says: string;
}

type Declared = Pick<EnvironmentPlan, 'after' | 'promotion' | 'healthy' | 'approvals' | 'frozen' | 'branch'>;
type Plans = Record<string, Declared & Pick<EnvironmentPlan, 'verify'>>;

/** The rules that a definition declares for an environment; one that it does not declare has none. */
export function rulesOf(plans: Plans | null | undefined, name: string): Rules {
  const plan = plans?.[name];
  const after = plan?.after ?? null;
  return {
    after,
    verified: after !== null && Boolean(plans?.[after]?.verify),
    healthy: plan?.healthy ?? 0,
    approvals: plan?.approvals ?? 0,
    frozen: plan?.frozen ?? [],
    automatic: after !== null && plan?.promotion === 'automatic',
  };
}

/** What counts when this is declared while that counts, and what of it is less than before. */
export function tighten(inForce: Rules | null, declared: Rules): { rules: Rules; loosened: Loosened[] } {
  if (!inForce) return { rules: declared, loosened: [] };
  const loosened: Loosened[] = [];
  const less = (rule: Loosened['rule'], says: string) => loosened.push({ rule, says });
  const rules: Rules = { ...declared, frozen: [...new Set([...inForce.frozen, ...declared.frozen])] };
  const gone = inForce.frozen.filter((one) => !declared.frozen.includes(one));
  if (gone.length) less('frozen hours', `frozen: ${gone.join('; ')}; not any more`);
  if (inForce.approvals > declared.approvals) {
    rules.approvals = inForce.approvals;
    less('approvals', `approvals: ${inForce.approvals}; ${declared.approvals} instead`);
  }
  // Where nothing comes after another environment there is no rule about how it was there.
  if (inForce.after === null) return { rules, loosened };
  if (declared.after !== inForce.after) {
    less('after', `after: ${inForce.after}; ${declared.after ?? 'after no environment'} instead`);
    return { rules: { ...inForce, approvals: rules.approvals, frozen: rules.frozen }, loosened };
  }
  if (inForce.verified && !declared.verified) {
    rules.verified = true;
    less('verified', `what is taken was verified in ${inForce.after}; not any more`);
  }
  if (inForce.healthy > declared.healthy) {
    rules.healthy = inForce.healthy;
    const instead = declared.healthy ? durationText(declared.healthy) : 'no time';
    less('healthy', `healthy: ${durationText(inForce.healthy)}; ${instead} instead`);
  }
  if (declared.automatic && !inForce.automatic) {
    rules.automatic = false;
    less('promotion', 'promotion: manual; automatic instead');
  }
  return { rules, loosened };
}

/** A plan as its rules let it work: what it may take is what counts, not what is declared. */
export const planWith = <T extends Declared>(plan: T, rules: Rules): T => ({
  ...plan,
  after: rules.after,
  branch: rules.after === null ? plan.branch : null,
  promotion: rules.automatic ? 'automatic' : 'manual',
});
