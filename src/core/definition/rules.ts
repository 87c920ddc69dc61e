/** What an environment asks of a release before it takes it, besides where it comes from. */
import { parseDuration, parseShortTime } from '../durations.js';
import { at, listAt, type Report, textAt, textsAt } from './access.js';
import type { EnvironmentPlan, ReleasePlan } from './model.js';
import type { Read } from './read.js';
import { parseCutover } from '../cutover/steps.js';

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

/** In which steps the traffic moves, and above which bounds it goes back. */
export function readCutover(
  environment: Read,
  report: Report,
  release: Pick<ReleasePlan, 'oneWay'> | null,
): Pick<EnvironmentPlan, 'cutover' | 'guard' | 'mirror'> {
  const steps = listAt(environment, 'cutover');
  const single = textAt(environment, 'cutover');
  const texts = steps?.map(({ text }) => text) ?? (single === null ? [] : [single]);
  const cutover = parseCutover(texts);
  const guard = at(environment, 'guard')?.value;
  if ('fault' in cutover) {
    // Each step by itself was read by its form: what is left is their order.
    const span = steps?.[cutover.at]?.span ?? at(environment, 'cutover')?.value.span;
    if (span && (cutover.fault === 'share' || cutover.fault === 'order'))
      report('cutover_order', span, { step: texts[cutover.at] ?? '' });
    return {};
  }
  // Old programs would answer beside what they can't bear.
  const key = at(environment, 'cutover')?.key;
  if (key && release?.oneWay) report('one_way_shares', key, { file: release.oneWay[0] ?? '' });
  const errors = guard ? textAt(guard, 'errors') : null;
  const mirror = at(environment, 'mirror')?.value;
  const below = (key: string) => (mirror ? (textsAt(mirror, key) ?? []) : []).map((one) => one.replace(/(.)\/$/, '$1'));
  return {
    ...(texts.length ? { cutover } : {}),
    ...(mirror ? { mirror: { paths: below('paths'), same: below('same') } } : {}),
    ...(guard
      ? {
          guard: {
            errors: errors === null ? null : Number.parseFloat(errors) / 100,
            p95Ms: parseShortTime(textAt(guard, 'p95') ?? ''),
            few: textAt(guard, 'few') === 'wait' ? 'wait' : 'continue',
          },
        }
      : {}),
  };
}
