/** What every act of release needs, and the plainest of them: deploy. Each is one transaction that a person, or the engine, asks for. */
import { allTraffic } from '../../core/cutover/route.js';
import { splitPlan } from '../../core/cutover/steps.js';
import type { EnvironmentPlan } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import { hasCommit } from '../../git/repository.js';
import { type Act, unmetFor } from '../../core/rules/gate.js';
import { answersTo, nextFor } from '../../core/rules/promotion.js';
import { type RuleAnswer, untilText } from '../../core/rules/rules.js';
import type { DeploymentKind } from '../../core/states.js';
import { changedVariables, type Resolved, shownSecrets } from '../../core/variables/resolve.js';
import {
  addDeployment,
  type BackOf,
  deploymentById,
  type DeploymentRow,
  findDeployment,
  movingDeployments,
} from '../../records/deployments/deployments.js';
import { type EnvironmentRow, findEnvironment, lockEnvironmentNamed } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { findRelease, type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import { keepRelease } from '../../records/views/space.js';
import { type Context, type Db, repositoryOf } from '../context.js';
import type { Override } from '../../records/models/deployments/deployments.js';
import { madeOf } from '../compare/made-of.js';
import { variablesFor } from '../environments/variables.js';
import { heldWhy, liveRelease } from './live.js';
import { promotionFacts, type Ruled, ruled } from '../promotion/rules.js';

export const placeOf = (project: { name: string }, environment: { name: string }): string =>
  `${project.name}/${environment.name}`;

export interface Ask {
  project: ProjectRow;
  environment: EnvironmentRow;
  release: ReleaseRow;
  kind: DeploymentKind;
  actor: string;
  /** What its programs get of what is set now, where that was looked up in this transaction; left out: it is looked up. */
  gets?: Resolved;
  /** The deployment whose plain variables come back. */
  then?: DeploymentRow;
  /** Of a revert: what it leaves and brings back. */
  back?: BackOf;
  /** An owner's, with the rules that are not met. */
  override?: Override;
  /** Of `allTraffic`: what it gets until somebody ends that. */
  split?: number;
  /** How the rules stood when it was asked for. */
  rules?: readonly RuleAnswer[];
}

/** Records a deployment. What the release requires and nobody has set is said here, all at once, before anything starts. */
export async function askDeployment(context: Context, db: Db, ask: Ask): Promise<DeploymentRow> {
  const { project, environment, release } = ask;
  // What strangers have written goes to their own reviews alone, and nothing else does.
  if ((release.line !== 'own') !== environment.outside)
    throw new CodedError('release_untrusted', { number: release.number, environment: placeOf(project, environment) });
  const { main, plan: declared } = await ruled(db, environment);
  // Both have their share for as long as wanted: one step, that nobody hurries on.
  const plan = ask.split === undefined ? declared : { ...declared, cutover: splitPlan(ask.split) };
  if (release.imported) await needFiles(context, ask, plan);
  const { values, secrets, unset } = ask.gets ?? (await variablesFor(context, db, ask));
  if (unset.length && !ask.then)
    throw new CodedError('variable_unset', { names: unset.join(', '), environment: placeOf(project, environment) });
  const shown = shownSecrets(release.plan, ask.then?.secrets ?? secrets);
  if (shown.length) throw new CodedError('settings_secret', { name: shown.join(', ') });
  const given = {
    variables: ask.then?.variables ?? values,
    // Secrets are those of now; one that nobody has set any more is that of then.
    secrets: ask.then ? { ...ask.then.secrets, ...pick(secrets, Object.keys(ask.then.secrets)) } : secrets,
  };
  const definition = main?.commit ?? null;
  // The sweep takes no bytes from here on, or has taken them before.
  if (!(await keepRelease(db, release.id))) throw releaseGone(release);
  const row = await addDeployment(db, {
    project: project.id,
    environment: environment.id,
    release: release.id,
    kind: ask.kind,
    actor: ask.actor,
    definitionCommit: definition,
    plan,
    ...given,
    override: ask.override ?? null,
    split: ask.split ?? null,
    back: ask.back ?? null,
    madeOf: await madeOf(context, db, { environment, release, plan, definition, ...given }),
  });
  await recordEvents(db, {
    type: 'deployment.requested',
    project: project.id,
    subject: `d${row.number}`,
    actor: ask.actor,
    data: {
      environment: placeOf(project, environment),
      release: `r${release.number}`,
      digest: release.digest,
      kind: ask.kind,
      ...(ask.rules
        ? { rules: ask.rules.map(({ rule, state, says, source }) => ({ rule, state, says, source })) }
        : {}),
      ...(ask.split === undefined ? {} : { split: ask.split / allTraffic }),
      ...(ask.override ? { override: { why: ask.override.why, rules: ask.override.rules } } : {}),
    },
  });
  return row;
}

/** What was made elsewhere has its commit's files only where somebody has pushed them. */
async function needFiles(
  context: Context,
  { project, environment, release }: Ask,
  plan: EnvironmentPlan,
): Promise<void> {
  if (!plan.verify?.reads?.length || (await hasCommit(repositoryOf(context, project), release.commit))) return;
  throw new CodedError('release_without_files', {
    release: `r${release.number}`,
    environment: placeOf(project, environment),
    commit: release.commit.slice(0, 12),
  });
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
  const environment = await lockEnvironmentNamed(db, project.id, name);
  if (!environment)
    throw new CodedError('not_found', {
      what: `The environment ${project.name}/${name}`,
      hint: 'It is made when the main branch declares it; `tsunagi board` shows what there is.',
    });
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
  const { plan, rules } = await ruled(db, environment);
  const place = placeOf(project, environment);
  // The live release is deployed again when people have changed its variables.
  const again = await hasWaitingChanges(context, db, project, environment, release);
  if (!again && plan.after)
    throw new CodedError('rules_apply', { environment: place, after: plan.after, release: `r${number}` });
  if (!again) await refuseLive(db, environment, release, place);
  await passGate(context, db, again ? 'deploy again' : 'deploy', { project, environment, release, rules });
  return askDeployment(context, db, { project, environment, release, kind: 'deploy', actor });
}

/**
 * Deploys again what a deployment of this environment's history brought, with its plain variables of then; secrets are those of now. Unless
 * its release is live, every rule must be met now: that they were met once says nothing.
 */
export async function deployAgain(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number,
  actor: string,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const then = await findDeployment(db, project.id, number);
  if (then?.environment_id !== environment.id)
    throw new CodedError('not_found', {
      what: `The deployment d${number} of ${place}`,
      hint: '`tsunagi environment show` lists those that there were.',
    });
  const release = await releaseById(db, then.release_id);
  const { rules } = await ruled(db, environment);
  refuseGone(release);
  const act = (await liveRelease(db, environment))?.id === release.id ? 'deploy again' : 'deploy';
  await passGate(context, db, act, { project, environment, release, rules });
  return askDeployment(context, db, { project, environment, release, kind: 'deploy', actor, then });
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
  return Boolean(environment && (await ruled(db, environment)).plan.after);
}

/** Refuses an act whose rules are not met now, and says which. Variables that are not set are named elsewhere, all at once. */
async function passGate(
  context: Context,
  db: Db,
  act: Act,
  asked: { project: ProjectRow; environment: EnvironmentRow; release: ReleaseRow; rules: Ruled['rules'] },
): Promise<void> {
  const facts = await promotionFacts(context, db, { ...asked, moving: false, override: null });
  const unmet = unmetFor(act, answersTo(facts)).filter(({ rule }) => rule !== 'variables');
  const [first] = unmet;
  if (!first) return;
  const place = placeOf(asked.project, asked.environment);
  if (first.rule === 'not on hold')
    throw new CodedError('environment_held', { environment: place, why: heldWhy(asked.environment) });
  if (first.rule === 'frozen hours' || first.rule === 'freeze')
    throw new CodedError('environment_frozen', {
      environment: place,
      why: unmet.map(({ says }) => says).join('; '),
      until: untilText(Math.max(...unmet.map(({ until }) => until ?? 0))),
    });
  throw new CodedError('not_deployable', {
    release: `r${asked.release.number}`,
    environment: place,
    why: `${unmet.map(({ says }) => says).join('; ')}.`,
    next: unmet.find((one) => one.change)?.change ?? nextFor(first),
  });
}

const releaseGone = ({ number, commit }: ReleaseRow): CodedError =>
  new CodedError('release_gone', { number, commit: commit.slice(0, 12) });

export function refuseGone(release: ReleaseRow): void {
  if (release.gone_at) throw releaseGone(release);
}

async function refuseLive(db: Db, environment: EnvironmentRow, release: ReleaseRow, place: string): Promise<void> {
  refuseGone(release);
  const moving = await movingDeployments(db, environment.id);
  if (moving.length === 0 && (await liveRelease(db, environment))?.id === release.id)
    throw new CodedError('already_live', { release: `r${release.number}`, environment: place });
}
