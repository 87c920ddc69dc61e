/** What may be promoted, by which rules, and the act of it. */
import type { EnvironmentPlan } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import type { Loosened, Rules } from '../../core/rules/in-force.js';
import { type Judgement, judgePromotion, type PromotionFacts } from '../../core/rules/promotion.js';
import { type DeploymentRow, movingDeployments } from '../../records/deployments/deployments.js';
import { type EnvironmentRow, findEnvironment } from '../../records/deployments/environments.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { evidenceOf, type ReleaseRow } from '../../records/deployments/releases.js';
import type { Context, Db } from '../context.js';

import { askDeployment, needRelease, openEnvironment, placeOf, refuseGone } from '../deployments/acts.js';
import { recordHealth } from '../deployments/health.js';
import { liveRelease } from '../deployments/live.js';
import { promotionFacts, ruled } from './rules.js';

/** The release that is live in an environment, and verified there where that is asked for. */
export async function verifiedRelease(
  db: Db,
  project: ProjectRow,
  name: string,
  verified: boolean,
): Promise<ReleaseRow | null> {
  const environment = await findEnvironment(db, project.id, name);
  const release = environment ? await liveRelease(db, environment) : null;
  if (!release || !verified) return release;
  const evidence = await evidenceOf(db, release.id);
  return evidence.some((one) => one.kind === 'verification' && one.name === name && one.digest === release.digest)
    ? release
    : null;
}

export interface Promotion {
  release: ReleaseRow;
  environment: EnvironmentRow;
  facts: PromotionFacts;
  judgement: Judgement;
  live: ReleaseRow | null;
  plan: EnvironmentPlan;
  rules: Rules;
  loosened: Loosened[];
}

/** What promoting a release (default: what the environment before has verified) to an environment comes to; refuses when there is nothing to promote. */
export async function considerPromotion(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
): Promise<Promotion> {
  const environment = await findEnvironment(db, project.id, name);
  if (!environment)
    throw new CodedError('not_found', {
      what: `The environment ${project.name}/${name}`,
      hint: '`tsunagi board` shows what there is.',
    });
  const { plan, rules, loosened, main } = await ruled(db, environment);
  const { after } = rules;
  const chosen =
    number !== null
      ? await needRelease(db, project, number)
      : after && main
        ? await verifiedRelease(db, project, after, rules.verified)
        : null;
  if (!chosen || !after || !main)
    throw new CodedError('nothing_to_promote', {
      environment: placeOf(project, environment),
      why: after ? `${after} has verified nothing that is live there.` : 'it does not come after another environment.',
      after: after ?? 'the environment before it',
    });
  const moving = (await movingDeployments(db, environment.id)).length > 0;
  const asked = { project, environment, release: chosen, rules, moving, override: null };
  const facts = await promotionFacts(context, db, asked);
  const live = await liveRelease(db, environment);
  return { release: chosen, environment, facts, judgement: judgePromotion(facts), live, plan, rules, loosened };
}

export interface PromoteAsk {
  actor: string;
  /** Of an owner: why it is taken though rules are not met. */
  why?: string | null;
  /** Of `allTraffic`: it gets so much beside what is live, until somebody ends that. `beside`: what must be live. */
  split?: { share: number; beside: number };
}

/**
 * Promotes a release. `why`: of an owner, who takes it though rules are not met; which of them that is, is recorded, and counts for
 * these alone when the traffic is moved.
 */
export async function promote(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
  { actor, why = null, split }: PromoteAsk,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const { release, judgement, facts, rules } = await considerPromotion(context, db, project, name, number);
  refuseGone(release);
  if (split) await refuseSplit(db, environment, release, split);
  const unmet = judgement.answers.filter((one) => one.state !== 'met');
  if (why !== null && unmet.length === 0 && judgement.allowed)
    throw new CodedError('override_needless', { environment: placeOf(project, environment) });
  if (judgement.refusal && (why === null || !judgement.overridable))
    throw new CodedError(judgement.refusal.code, judgement.refusal.data);
  const override = why === null ? undefined : { by: actor, why, rules: [...new Set(unmet.map(({ rule }) => rule))] };
  const { since, source } = facts.health;
  if (rules.after !== null && since !== null && source !== null)
    await recordHealth(db, { project, environment: rules.after, source, release, from: since, to: facts.now });
  return askDeployment(context, db, {
    project,
    environment,
    release,
    kind: 'promote',
    actor,
    rules: judgement.answers,
    ...(override ? { override } : {}),
    ...(split ? { split: split.share } : {}),
  });
}

/** A split is between what is live and one that may be promoted; workers of both would do everything twice. */
async function refuseSplit(
  db: Db,
  environment: EnvironmentRow,
  release: ReleaseRow,
  { beside }: NonNullable<PromoteAsk['split']>,
): Promise<void> {
  const live = await liveRelease(db, environment);
  if (live?.number !== beside)
    throw new CodedError('split_not_live', { release: `r${beside}`, live: live ? `r${live.number}` : 'nothing' });
  if (release.plan.oneWay?.length) throw new CodedError('one_way_shares', { file: release.plan.oneWay[0] ?? '' });
}
