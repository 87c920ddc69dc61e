/** Rules, approvals and freezes, as the API gives them. */
import { frozenBetween, parseFrozen } from '../../core/calendar/frozen.js';
import type { RuleAnswer } from '../../core/rules/rules.js';
import { placeOf } from '../../engine/deployments/acts.js';
import { ruled } from '../../engine/promotion/rules.js';
import { approvalsOf } from '../../records/deployments/approvals.js';
import type { Db } from '../../records/database.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Approvals, EnvironmentRules, Rule } from '../../wire/environments/rules.js';
import type { Service } from '../server.js';

const calendarMs = 35 * 86_400_000;

export const ruleView = ({ until, ...answer }: RuleAnswer): Rule => ({
  ...answer,
  until: until === null ? null : new Date(until).toISOString(),
});

/** The freeze of an owner that counts now. */
export const freezeView = (
  { frozen_by: freeze }: Pick<EnvironmentRow, 'frozen_by'>,
  now: number,
): EnvironmentRules['freeze'] => (freeze && Date.parse(freeze.until) > now ? freeze : null);

export async function rulesView(
  { context }: Service,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
): Promise<EnvironmentRules> {
  const { rules, loosened, main } = await ruled(db, environment);
  const now = context.now();
  const windows = rules.frozen.flatMap((text) => parseFrozen(text) ?? []);
  return {
    project: project.name,
    environment: environment.name,
    after: rules.after,
    verified: rules.verified,
    healthyMs: rules.healthy,
    approvals: rules.approvals,
    automatic: rules.automatic,
    frozen: rules.frozen,
    freeze: freezeView(environment, now),
    calendar: frozenBetween(windows, now, now + calendarMs).map(({ from, until, text }) => ({
      from: new Date(from).toISOString(),
      until: new Date(until).toISOString(),
      text,
    })),
    loosened,
    definition: main?.commit ?? null,
  };
}

export async function approvalsView(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  release: ReleaseRow,
): Promise<Approvals> {
  const { rules } = await ruled(db, environment);
  const given = await approvalsOf(db, { environment, release, after: rules.after });
  return {
    release: release.number,
    environment: placeOf(project, environment),
    needed: rules.approvals,
    given: given.map((one) => {
      const why = one.withdrawn ? 'withdrawn' : !one.may ? 'role' : one.digest !== release.digest ? 'bytes' : null;
      return { by: one.name, at: new Date(one.at).toISOString(), author: one.author, counts: why === null, why };
    }),
  };
}
