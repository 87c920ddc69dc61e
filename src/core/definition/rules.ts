/** What an environment asks of a release before it takes it, besides where it comes from. */
import { parseDuration } from '../durations.js';
import { at, textAt, textsAt } from './access.js';
import type { EnvironmentPlan } from './model.js';
import type { Read } from './read.js';

/** Left out where nothing is asked: what was stored before these were known is complete. */
export function readRules(environment: Read): Pick<EnvironmentPlan, 'healthy' | 'approvals' | 'frozen' | 'warm'> {
  const after = at(environment, 'after')?.value;
  const time = (value: Read | undefined, key: string) => (value ? parseDuration(textAt(value, key) ?? '') : null);
  const healthy = time(after, 'healthy');
  const warm = time(environment, 'warm');
  const approvals = Number(textAt(environment, 'approvals') ?? 0);
  const frozen = [...new Set(textsAt(environment, 'frozen') ?? [])];
  return {
    ...(healthy ? { healthy } : {}),
    ...(approvals > 0 ? { approvals } : {}),
    ...(frozen.length ? { frozen } : {}),
    ...(warm ? { warm } : {}),
  };
}
