/** The rules of environments as they count, and the facts by which they are judged. */
import type { Definition, EnvironmentPlan } from '../../core/definition/model.js';
import { longestHealth } from '../../core/release/evidence.js';
import { type Loosened, planWith, type Rules, rulesOf, tighten } from '../../core/rules/in-force.js';
import { issue, type Issue } from '../../core/errors/errors.js';
import { actOf } from '../../core/rules/gate.js';
import { judgeMove, type PromotionFacts } from '../../core/rules/promotion.js';
import type { RuleName } from '../../core/rules/rules.js';
import { approvalsOf } from '../../records/deployments/approvals.js';
import { releasedBy, wasLive } from '../../records/deployments/deployments.js';
import { type EnvironmentRow, findEnvironment } from '../../records/deployments/environments.js';
import { evidenceOf, type ReleaseRow } from '../../records/deployments/releases.js';
import { mainDefinition } from '../../records/projects/projects.js';
import type { Context, Db } from '../context.js';
import { variablesFor } from '../environments/variables.js';
import { heldWhy, liveRelease } from '../deployments/live.js';
import type { Scene } from '../deployments/scene.js';

type Main = { commit: string; model: Definition } | null;

/** Of an environment that the main branch declares no longer. */
export const emptyPlan = (name: string): EnvironmentPlan => ({
  name,
  for: null,
  branch: null,
  after: null,
  promotion: 'manual',
  verify: null,
  parts: {},
  addresses: [],
});

export interface Ruled {
  main: Main;
  /** How the environment works, by the rules that count. */
  plan: EnvironmentPlan;
  rules: Rules;
  /** What main declares that counts only when somebody has accepted it. */
  loosened: Loosened[];
}

export function ruledBy(
  main: Main,
  environment: Pick<EnvironmentRow, 'plan_name' | 'name' | 'rules'>,
): Omit<Ruled, 'main'> {
  const plans = main?.model.environments;
  const { rules, loosened } = tighten(environment.rules, rulesOf(plans, environment.plan_name));
  return { plan: planWith(plans?.[environment.plan_name] ?? emptyPlan(environment.name), rules), rules, loosened };
}

export async function ruled(db: Db, environment: EnvironmentRow): Promise<Ruled> {
  const main = await mainDefinition(db, environment.project_id);
  return { main, ...ruledBy(main, environment) };
}

interface EvidenceFact {
  kind: string;
  name: string;
  source: string;
  detail: Record<string, unknown>;
  at: Date | string;
}

/** What the rules need of the evidence about a release's own bytes. */
export function promotionEvidence(
  after: string | null,
  evidence: readonly EvidenceFact[],
): Pick<PromotionFacts, 'tasks' | 'verification' | 'imported'> {
  const found = evidence.find((one) => one.kind === 'verification' && one.name === after);
  const imported = evidence.find((one) => one.kind === 'import');
  return {
    imported: imported ? `made and tested at ${imported.source} as ${imported.name}` : null,
    tasks: evidence
      .filter((one) => one.kind === 'task')
      .map((one) => {
        const tests = one.detail.tests as { passed: number; failed: number } | null;
        return {
          name: one.name,
          state: String(one.detail.state),
          run: Number(one.source.replace('run ', '')),
          tests: tests ? tests.passed + tests.failed : null,
        };
      }),
    verification: found
      ? {
          environment: after as string,
          deployment: Number(found.detail.deployment),
          at: new Date(found.at).toISOString(),
        }
      : null,
  };
}

export interface Asked {
  project: Parameters<typeof variablesFor>[2]['project'];
  environment: EnvironmentRow;
  release: ReleaseRow;
  rules: Rules;
  moving: boolean;
  override: readonly RuleName[] | null;
}

/** Everything that the rules look at, as it is now. */
export async function promotionFacts(context: Context, db: Db, asked: Asked): Promise<PromotionFacts> {
  const { project, environment, release, rules } = asked;
  const { after } = rules;
  const before = after === null ? null : await findEnvironment(db, project.id, after);
  const liveThere = before?.live_id ? await releasedBy(db, before.live_id) : null;
  const since = liveThere?.release_id === release.id ? (before?.healthy_since?.getTime() ?? null) : null;
  const evidence = (await evidenceOf(db, release.id)).filter((one) => one.digest === release.digest);
  const approvals = rules.approvals > 0 ? await approvalsOf(db, { environment, release, after }) : [];
  const { longest, source } = longestHealth(evidence as never, after ?? '');
  return {
    now: context.now(),
    environment: `${project.name}/${environment.name}`,
    rules,
    release: release.number,
    digest: release.digest,
    liveRelease: (await liveRelease(db, environment))?.number ?? null,
    held: environment.held_by !== null,
    heldWhy: heldWhy(environment),
    moving: asked.moving,
    closed: environment.state === 'closed' || environment.state === 'closing',
    ...promotionEvidence(after, evidence),
    wasLiveBefore: after !== null && (await wasLive(db, project.id, after, release.id)),
    health: { longest, source: since === null ? source : `d${liveThere?.number}`, since },
    approvals,
    authors: approvals.filter(({ author }) => author).map(({ person }) => person),
    freeze: freezeOf(environment),
    unset: (await variablesFor(context, db, { project, environment, release })).unset,
    override: asked.override,
  };
}

/** An owner's freeze, as the rules see it. */
export const freezeOf = ({ frozen_by: freeze }: Pick<EnvironmentRow, 'frozen_by'>): PromotionFacts['freeze'] =>
  freeze && { by: freeze.by, why: freeze.why, until: Date.parse(freeze.until) };

/**
 * Why the rules don't let the traffic move to a deployment now. They were met when it was asked for; since then an approval may have
 * been taken back, a hold or a freeze have come. Going back is never forbidden, and reviews have no rules.
 */
export async function forbidden(
  scene: Pick<Scene, 'context' | 'db' | 'project' | 'environment' | 'release' | 'deployment' | 'place'>,
): Promise<Issue | null> {
  const { context, db, project, environment, release, deployment } = scene;
  if (deployment.kind === 'revert' || environment.kind === 'review') return null;
  const { rules } = await ruled(db, environment);
  const asked = { project, environment, release, rules, moving: false, override: deployment.override?.rules ?? null };
  const facts = await promotionFacts(context, db, asked);
  const unmet = judgeMove(facts, actOf({ kind: deployment.kind, release: release.number }, facts.liveRelease));
  if (unmet.length === 0) return null;
  return issue('rules_not_met', { environment: scene.place, why: unmet.map(({ says }) => says).join('; ') });
}
