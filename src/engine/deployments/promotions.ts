/** What may be promoted, by which rules, and the act of it. */
import type { Definition, EnvironmentPlan } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import { type Judgement, judgePromotion, type PromotionFacts } from '../../core/rules/promotion.js';
import { type DeploymentRow, movingDeployments, wasLive } from '../../records/deployments/deployments.js';
import { type EnvironmentRow, findEnvironment } from '../../records/deployments/environments.js';
import { mainDefinition, type ProjectRow } from '../../records/projects/projects.js';
import { evidenceOf, type ReleaseRow } from '../../records/deployments/releases.js';
import type { Context, Db } from '../context.js';
import { variablesFor } from '../environments/variables.js';

import { askDeployment, heldWhy, liveRelease, needRelease, openEnvironment, placeOf } from './acts.js';

/** The release that is live and verified in an environment (live alone, where the environment verifies nothing). */
export async function verifiedRelease(
  db: Db,
  project: ProjectRow,
  name: string,
  model: Definition,
): Promise<ReleaseRow | null> {
  const environment = await findEnvironment(db, project.id, name);
  const release = environment ? await liveRelease(db, environment) : null;
  if (!release || !model.environments[name]?.verify) return release;
  const evidence = await evidenceOf(db, release.id);
  return evidence.some((one) => one.kind === 'verification' && one.name === name && one.digest === release.digest)
    ? release
    : null;
}

export interface Promotion {
  release: ReleaseRow;
  environment: EnvironmentRow;
  judgement: Judgement;
  live: ReleaseRow | null;
  plan: EnvironmentPlan | null;
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
  after: string,
  evidence: readonly EvidenceFact[],
): Pick<PromotionFacts, 'tasks' | 'verification'> {
  const found = evidence.find((one) => one.kind === 'verification' && one.name === after);
  return {
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
      ? { environment: after, deployment: Number(found.detail.deployment), at: new Date(found.at).toISOString() }
      : null,
  };
}

/** What promoting a release (default: what the environment before has verified) to an environment comes to; null when there is nothing to promote. */
export async function considerPromotion(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
): Promise<Promotion> {
  const found = await findEnvironment(db, project.id, name);
  if (!found)
    throw new CodedError('not_found', {
      what: `The environment ${project.name}/${name}`,
      hint: '`tsunagi board` shows what there is.',
    });
  const main = await mainDefinition(db, project.id);
  const plan = main?.model.environments[found.plan_name] ?? null;
  const after = plan?.after ?? null;
  const place = placeOf(project, found);
  const chosen =
    number !== null
      ? await needRelease(db, project, number)
      : after && main
        ? await verifiedRelease(db, project, after, main.model)
        : null;
  if (!chosen || !after || !main)
    throw new CodedError('nothing_to_promote', {
      environment: place,
      why: after ? `${after} has verified nothing that is live there.` : 'it does not come after another environment.',
      after: after ?? 'the environment before it',
    });
  const [evidence, live, moving] = [
    await evidenceOf(db, chosen.id),
    await liveRelease(db, found),
    await movingDeployments(db, found.id),
  ];
  const sameBytes = evidence.filter((one) => one.digest === chosen.digest);
  const wasLiveBefore = await wasLive(db, project.id, after, chosen.id);
  const judgement = judgePromotion({
    environment: place,
    after,
    release: chosen.number,
    liveRelease: live?.number ?? null,
    held: found.held_by !== null,
    heldWhy: heldWhy(found),
    moving: moving.length > 0,
    closed: found.state === 'closed' || found.state === 'closing',
    verifies: Boolean(main.model.environments[after]?.verify),
    ...promotionEvidence(after, sameBytes),
    wasLiveBefore,
    unset: (await variablesFor(context, db, { project, environment: found, release: chosen })).unset,
  });
  return { release: chosen, environment: found, judgement, live, plan };
}

export async function promote(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
  actor: string,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const { release, judgement } = await considerPromotion(context, db, project, name, number);
  if (judgement.refusal) throw new CodedError(judgement.refusal.code, judgement.refusal.data);
  return askDeployment(context, db, { project, environment, release, kind: 'promote', actor });
}
