/** What will be there, in the same words wherever people read it. */
import { moneyText } from './cost/cost.js';
import type { Size } from './scale/sizes.js';

/** What comes to an environment, and how. */
export function takesText({ takes, of, automatic }: { takes: string; of: string | null; automatic: boolean }): string {
  if (takes === 'pull requests') return 'one for each pull request';
  if (takes === 'branch') return `what is pushed to ${of}, by itself`;
  if (takes === 'after') return `what was live in ${of}, ${automatic ? 'by itself' : 'when somebody promotes it'}`;
  return 'what somebody deploys there';
}

/** How many of a part run: `2`, `1 to 4`. */
export const countText = ({ auto, instances }: Pick<Size, 'auto' | 'instances'>): string =>
  auto ? `${auto.min} to ${auto.max}` : String(instances);

export interface CostAhead {
  currency: string | null;
  memoryCost: number | null;
  processorCostAtMost: number | null;
}

/** What it comes to in a month; null where no prices are set. */
export function costText({ currency, memoryCost, processorCostAtMost }: CostAhead): string | null {
  if (currency === null || memoryCost === null) return null;
  const processor =
    processorCostAtMost === null
      ? '; its processor has no bound'
      : `, and ${moneyText(processorCostAtMost, currency)} at most for the processor`;
  return `About ${moneyText(memoryCost, currency)} a month for memory${processor}.`;
}
