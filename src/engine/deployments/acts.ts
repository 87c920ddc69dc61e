/** The acts of release: deploy, promote, revert, hold, lift. Each is one transaction that a person, or the engine, asks for. */
import { revertTarget } from '../../core/advance/environments.js';
import type { Definition, EnvironmentPlan } from '../../core/definition/model.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import { type Judgement, judgePromotion, type PromotionFacts } from '../../core/rules/promotion.js';
import type { DeploymentKind } from '../../core/states.js';
import { changedVariables, shownSecrets } from '../../core/variables/resolve.js';
import {
  addDeployment,
  deploymentById,
  type DeploymentRow,
  deploymentsOf,
  movingDeployments,
  setFailure,
  wasLive,
  releasedBy,
  asPast,
} from '../../records/deployments/deployments.js';
import {
  type EnvironmentRow,
  findEnvironment,
  holdEnvironment,
  liftEnvironment,
  lockEnvironment,
} from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { mainDefinition, nextNumber, type ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import { evidenceOf, findRelease, type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import type { Context, Db } from '../context.js';
import { variablesFor } from '../environments/variables.js';

const emptyPlan = (name: string): EnvironmentPlan => ({
  name,
  for: null,
  branch: null,
  after: null,
  promotion: 'manual',
  verify: null,
});

export const placeOf = (project: { name: string }, environment: { name: string }): string =>
  `${project.name}/${environment.name}`;

export interface Ask {
  project: ProjectRow;
  environment: EnvironmentRow;
  release: ReleaseRow;
  kind: DeploymentKind;
  actor: string;
  /** The deployment whose plain variables a revert brings back. */
  then?: DeploymentRow;
}

/** Records a deployment. What the release requires and nobody has set is said here, all at once, before anything starts. */
export async function askDeployment(context: Context, db: Db, ask: Ask): Promise<DeploymentRow> {
  const { project, environment, release } = ask;
  if (release.line !== 'own' && environment.kind === 'standing')
    throw new CodedError('release_untrusted', { number: release.number, environment: placeOf(project, environment) });
  const main = await mainDefinition(db, project.id);
  const plan = main?.model.environments[environment.plan_name] ?? emptyPlan(environment.name);
  const { values, secrets, unset } = await variablesFor(context, db, ask);
  if (unset.length && !ask.then)
    throw new CodedError('variable_unset', { names: unset.join(', '), environment: placeOf(project, environment) });
  const shown = shownSecrets(release.plan, ask.then?.secrets ?? secrets);
  if (shown.length) throw new CodedError('settings_secret', { name: shown.join(', ') });
  const number = await nextNumber(db, project.id, 'deployments');
  const row = await addDeployment(db, {
    project: project.id,
    number,
    environment: environment.id,
    release: release.id,
    kind: ask.kind,
    actor: ask.actor,
    definitionCommit: main?.commit ?? null,
    plan,
    variables: ask.then?.variables ?? values,
    // Secrets are those of now; one that nobody has set any more is that of then.
    secrets: ask.then ? { ...ask.then.secrets, ...pick(secrets, Object.keys(ask.then.secrets)) } : secrets,
  });
  await recordEvents(db, {
    type: 'deployment.requested',
    project: project.id,
    subject: `d${number}`,
    actor: ask.actor,
    data: { environment: placeOf(project, environment), release: `r${release.number}`, kind: ask.kind },
  });
  return row;
}

const pick = <T>(all: Record<string, T>, names: readonly string[]): Record<string, T> =>
  Object.fromEntries(names.flatMap((name) => (all[name] === undefined ? [] : [[name, all[name]]])));

/** Variables that the live release of an environment would get now with another value than it has. */
export async function waitingChanges(
  context: Context,
  db: Db,
  ask: Pick<Ask, 'project' | 'environment' | 'release'>,
  live: Pick<DeploymentRow, 'variables' | 'secrets'>,
): Promise<string[]> {
  return changedVariables({ values: live.variables, secrets: live.secrets }, await variablesFor(context, db, ask));
}

/** The environment, locked for an act; refuses one that is closed. */
export async function openEnvironment(db: Db, project: ProjectRow, name: string): Promise<EnvironmentRow> {
  const found = await findEnvironment(db, project.id, name);
  if (!found)
    throw new CodedError('not_found', {
      what: `The environment ${project.name}/${name}`,
      hint: 'It is made when the main branch declares it; `tsunagi board` shows what there is.',
    });
  const environment = await lockEnvironment(db, found.id);
  if (environment.state === 'closed' || environment.state === 'closing')
    throw new CodedError('environment_closed', { environment: placeOf(project, environment) });
  return environment;
}

export async function needRelease(db: Db, project: ProjectRow, number: number): Promise<ReleaseRow> {
  const release = await findRelease(db, project.id, number);
  if (!release)
    throw new CodedError('not_found', {
      what: `The release r${number} of ${project.name}`,
      hint: '`tsunagi release list` shows them.',
    });
  return release;
}

export async function deploy(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number,
  actor: string,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const release = await needRelease(db, project, number);
  const plan = (await mainDefinition(db, project.id))?.model.environments[environment.plan_name];
  const place = placeOf(project, environment);
  // What is live already is deployed anew when people have changed variables of it: no rule is about that.
  const anew = await hasWaitingChanges(context, db, project, environment, release);
  if (!anew && plan?.after)
    throw new CodedError('rules_apply', { environment: place, after: plan.after, release: `r${number}` });
  if (!anew) refuseHeld(environment, place);
  if (!anew) await refuseLive(db, environment, release, place);
  return askDeployment(context, db, { project, environment, release, kind: 'deploy', actor });
}

/** Whether this release is live in the environment, and would get other variables now. */
async function hasWaitingChanges(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  release: ReleaseRow,
): Promise<boolean> {
  const live = environment.live_id ? await deploymentById(db, environment.live_id) : null;
  if (live?.release_id !== release.id || (await movingDeployments(db, environment.id)).length > 0) return false;
  return (await waitingChanges(context, db, { project, environment, release }, live)).length > 0;
}

/** Whether deploying this release there is a releaser's act: it comes after another environment. */
export async function needsReleaser(db: Db, project: ProjectRow, name: string): Promise<boolean> {
  const environment = await findEnvironment(db, project.id, name);
  return Boolean(
    environment && (await mainDefinition(db, project.id))?.model.environments[environment.plan_name]?.after,
  );
}

function refuseHeld(environment: EnvironmentRow, place: string): void {
  if (environment.held_by !== null)
    throw new CodedError('environment_held', { environment: place, why: heldWhy(environment) });
}

function refuseGone(release: ReleaseRow): void {
  if (release.gone_at)
    throw new CodedError('release_gone', { number: release.number, commit: release.commit.slice(0, 12) });
}

async function refuseLive(db: Db, environment: EnvironmentRow, release: ReleaseRow, place: string): Promise<void> {
  refuseGone(release);
  const moving = await movingDeployments(db, environment.id);
  if (moving.length === 0 && (await liveRelease(db, environment))?.id === release.id)
    throw new CodedError('already_live', { release: `r${release.number}`, environment: place });
}

export const heldWhy = (environment: Pick<EnvironmentRow, 'held_by' | 'held_why'>): string =>
  environment.held_why ? `${environment.held_why} (${environment.held_by})` : `held by ${environment.held_by}`;

export async function liveRelease(db: Db, environment: EnvironmentRow): Promise<ReleaseRow | null> {
  if (!environment.live_id) return null;
  const row = await releasedBy(db, environment.live_id);
  return row ? releaseById(db, row.release_id) : null;
}

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

/** A new deployment of what was live before, with the variables of then, and a hold. */
export async function revert(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
  actor: string,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const past = await deploymentsOf(db, environment.id, 200);
  const live = past.find((one) => one.id === environment.live_id) ?? null;
  const moving = await movingDeployments(db, environment.id);
  if (moving.length && live && (number === null || number === live.release)) {
    // What moves is ended, and what served goes on: that is what there is to go back to.
    await endMoving(db, moving, actor);
    await holdAfterRevert(
      db,
      project,
      environment,
      actor,
      `reverted to r${live.release} while r${await releaseNumber(db, moving)} was on its way`,
    );
    return moving.at(-1) as DeploymentRow;
  }
  const target = number ?? revertTarget(past.map(asPast), live?.release ?? null);
  const then = past.find((one) => one.release === target && one.live_at !== null);
  if (target === null || !then) throw new CodedError('nothing_to_revert', { environment: place });
  const release = await needRelease(db, project, target);
  refuseGone(release);
  if (live?.release === target && moving.length === 0)
    throw new CodedError('already_live', { release: `r${target}`, environment: place });
  await endMoving(db, moving, actor);
  const deployment = await askDeployment(context, db, { project, environment, release, kind: 'revert', actor, then });
  await holdAfterRevert(
    db,
    project,
    environment,
    actor,
    `reverted ${live ? `from r${live.release} ` : ''}to r${target}`,
  );
  return deployment;
}

/** Fails what is on its way, each from where it stands: its own steps bring back what was there. */
async function endMoving(db: Db, moving: readonly DeploymentRow[], actor: string): Promise<void> {
  for (const one of moving) {
    await setFailure(db, one.id, issue('ended_by_revert', { who: actor }));
    await makeDue(db, 'deployments', one.id);
  }
}

async function releaseNumber(db: Db, moving: readonly DeploymentRow[]): Promise<number> {
  return (await releaseById(db, (moving.at(-1) as DeploymentRow).release_id)).number;
}

async function holdAfterRevert(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  actor: string,
  why: string,
): Promise<void> {
  await holdEnvironment(db, environment.id, actor, why);
  await recordEvents(db, {
    type: 'environment.held',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
    data: { why },
  });
}

export async function hold(
  db: Db,
  project: ProjectRow,
  name: string,
  why: string,
  actor: string,
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  await holdEnvironment(db, environment.id, actor, why);
  await recordEvents(db, {
    type: 'environment.held',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
    data: { why },
  });
  return lockEnvironment(db, environment.id);
}

export async function lift(db: Db, project: ProjectRow, name: string, actor: string): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  if (!(await liftEnvironment(db, environment.id)))
    throw new CodedError('not_held', { environment: placeOf(project, environment) });
  await recordEvents(db, {
    type: 'environment.lifted',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
  });
  return lockEnvironment(db, environment.id);
}
