/** Going back, and what keeps an environment where it is: revert, undo, hold, lift. */
import { refusesUndo } from '../../core/advance/back.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import { deploymentMoving, jointMoving } from '../../core/states.js';
import {
  type DeploymentRow,
  deploymentById,
  deploymentsOf,
  findDeployment,
  lockDeployments,
  type PastRow,
  setFailure,
} from '../../records/deployments/deployments.js';
import {
  type EnvironmentRow,
  findEnvironment,
  holdEnvironment,
  liftEnvironment,
  lockEnvironment,
  lockEnvironments,
} from '../../records/deployments/environments.js';
import { jointById } from '../../records/deployments/joints.js';
import { recordEvents } from '../../records/events.js';
import { type ProjectRow, projectById } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import { releaseById } from '../../records/deployments/releases.js';
import type { Context, Db } from '../context.js';

import { askDeployment, openEnvironment, placeOf, refuseGone } from './acts.js';
import { chooseRevert, lookAtRevert, refuseRevert, type RevertWish } from './revert-ahead.js';
import type { Made } from './scene.js';

export interface RevertAsk extends RevertWish {
  actor: string;
  /** Of the hold; left out: what was done. */
  why?: string;
  /** Plain variables that its programs get; left out: those of then. */
  variables?: 'then' | 'now';
  /** Also beyond what is marked as one-way. */
  oneWay?: boolean;
}

export interface Reverted {
  deployment: DeploymentRow;
  /** It was made for this; null: it was there before. */
  made: Made | null;
  /** Somebody else has reverted what was to be left: this deployment did it, and nothing was done now. */
  already: boolean;
  /** Number of the release that keeps the traffic, where what was on its way is ended; null: another one gets it. */
  keeps: number | null;
}

/** A new deployment of what was live before, and a hold. While something moves, that is ended, and what served goes on. */
export async function revert(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  { actor, why, variables = 'then', oneWay = false, ...wish }: RevertAsk,
): Promise<Reverted> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const choice = await chooseRevert(db, project, environment, wish);
  const { decision, live, moving } = choice;
  refuseRevert(choice, wish, place);
  if (decision.what === 'already') {
    const deployment = (await findDeployment(db, project.id, decision.by)) as DeploymentRow;
    return { deployment, made: null, already: true, keeps: null };
  }
  const ends = 'ends' in decision ? moving.filter(({ id }) => decision.ends.some((one) => one.id === id)) : [];
  if (decision.what === 'joins') {
    await endMoving(db, ends, actor);
    const deployment = moving.find(({ id }) => id === decision.by.id) as DeploymentRow;
    return { deployment, made: null, already: true, keeps: null };
  }
  const look = await lookAtRevert(context, db, project, environment, choice);
  const { release, then } = look;
  if (look.keeps) {
    // What moves is ended, and what served goes on: that is what there is to go back to.
    await endMoving(db, ends, actor);
    const ended = `r${await releaseNumber(db, ends)}`;
    const did = `reverted to r${release.number} while ${ended} was on its way`;
    await holdFor(db, project, environment, actor, why ?? did);
    return { deployment: ends.at(-1) as DeploymentRow, made: null, already: false, keeps: release.number };
  }
  refuseGone(release);
  if (look.oneWay.length && !oneWay)
    throw new CodedError('revert_one_way', {
      environment: place,
      files: look.oneWay.join(', '),
      release: release.number,
    });
  await endMoving(db, ends, actor);
  const ask = {
    project,
    environment,
    release,
    kind: 'revert' as const,
    actor,
    gets: look.gets,
    back: {
      leaves: live?.id ?? null,
      restores: then.id,
      back: then.back_id,
      undoes: false,
      heldBefore: holdOf(environment),
    },
  };
  const deployment = await askDeployment(context, db, variables === 'then' ? { ...ask, then } : ask);
  const did = `reverted ${live ? `from r${live.release} ` : ''}to r${release.number}`;
  const held = await holdFor(db, project, environment, actor, why ?? did);
  const { warmed: warm, releases } = look;
  return {
    deployment,
    made: { project, environment: held, release, moving: ends, warm, releases },
    already: false,
    keeps: null,
  };
}

const holdOf = ({ held_by, held_why }: EnvironmentRow): { by: string; why: string } | null =>
  held_by === null ? null : { by: held_by, why: held_why ?? '' };

export interface UndoAsk {
  actor: string;
  reason: string | null;
  /** Id of the one project that the caller may act in; null: in all. */
  only: string | null;
}

/**
 * Brings back what the last revert here has left, and the hold as it was before. Of a joint promotion that was taken back, all members
 * or none. It is refused where anything else has happened here since.
 */
export async function undoRevert(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  ask: UndoAsk,
): Promise<DeploymentRow> {
  const members = await undoMembers(db, project, name);
  if (ask.only !== null && members.some((one) => one.project.id !== ask.only)) throw new CodedError('undo_joint');
  await lockEnvironments(
    db,
    members.map((one) => one.project.id),
    name,
  );
  const rows: { project: string; deployment: DeploymentRow }[] = [];
  for (const one of members)
    rows.push({ project: one.project.id, deployment: await undoOne(context, db, one.project, one.name, ask) });
  return rows.find((one) => one.project === project.id)?.deployment as DeploymentRow;
}

/** The environments that an undo is for: this one, or all members of the joint promotion that was taken back with it. In the order of their projects. */
async function undoMembers(
  db: Db,
  project: ProjectRow,
  name: string,
): Promise<{ project: ProjectRow; name: string }[]> {
  const environment = await findEnvironment(db, project.id, name);
  const live = environment?.live_id ? await deploymentById(db, environment.live_id) : null;
  const left = live?.leaves_id ? await deploymentById(db, live.leaves_id) : null;
  const joint = left?.joint_id ? await jointById(db, left.joint_id) : null;
  if (joint?.state !== 'returned') return [{ project, name }];
  const went = joint.members.filter((one) => !joint.stayed.includes(one.project));
  const found = await Promise.all(went.map((one) => projectById(db, one.projectId)));
  return found.sort((a, b) => (a.id < b.id ? -1 : 1)).map((one) => ({ project: one, name: joint.environment }));
}

async function undoOne(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  { actor, reason }: UndoAsk,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const past = await deploymentsOf(db, environment.id, 200);
  const live = past.find((one) => one.id === environment.live_id) ?? null;
  const refused = refusesUndo({ live, newest: past[0]?.number ?? null, reason });
  if (refused) throw new CodedError(refused === 'none' ? 'undo_none' : 'undo_reason', { environment: place });
  const then = past.find((one) => one.id === live?.leaves_id) as PastRow | undefined;
  if (!then) throw new CodedError('undo_none', { environment: place });
  const release = await releaseById(db, then.release_id);
  refuseGone(release);
  const deployment = await askDeployment(context, db, {
    project,
    environment,
    release,
    kind: 'revert',
    actor,
    then,
    back: {
      leaves: live?.id ?? null,
      restores: then.id,
      back: then.back_id,
      undoes: true,
      heldBefore: holdOf(environment),
    },
  });
  const before = live?.held_before;
  if (before) await holdFor(db, project, environment, before.by, before.why);
  else if (await liftEnvironment(db, environment.id))
    await recordEvents(db, {
      type: 'environment.lifted',
      project: project.id,
      subject: place,
      actor,
      data: reason ? { why: reason } : {},
    });
  return deployment;
}

/**
 * Stops a deployment on its way: its work ends, and its own steps bring back what was there. Throws `deployment_over` where it is not
 * on its way, `deployment_joint` where others go with it.
 */
export async function stopDeployment(
  db: Db,
  project: ProjectRow,
  number: number,
  actor: string,
): Promise<DeploymentRow> {
  const found = await findDeployment(db, project.id, number);
  if (!found) throw new CodedError('not_found', { what: `The deployment d${number}`, hint: '' });
  const environment = await lockEnvironment(db, found.environment_id);
  const [deployment] = await lockDeployments(db, [found.id]);
  const place = placeOf(project, environment);
  if (!deployment || !deploymentMoving(deployment.state))
    throw new CodedError('deployment_over', { number, state: deployment?.state ?? 'gone', environment: place });
  const joint = deployment.joint_id === null ? null : await jointById(db, deployment.joint_id);
  if (joint && jointMoving(joint.state)) throw new CodedError('deployment_joint', { number, joint: joint.number });
  if (deployment.failure) return deployment;
  await setFailure(db, deployment.id, issue('deployment_stopped', { who: actor }));
  await recordEvents(db, {
    type: 'deployment.stop-asked',
    project: project.id,
    subject: `d${number}`,
    actor,
    data: { environment: place },
  });
  await makeDue(db, 'deployments', deployment.id);
  return (await deploymentById(db, deployment.id)) ?? deployment;
}

/** Fails what is on its way, each from where it is: its own steps bring back what was there. */
async function endMoving(db: Db, moving: readonly DeploymentRow[], actor: string): Promise<void> {
  for (const one of moving) {
    await setFailure(db, one.id, issue('ended_by_revert', { who: actor }));
    await makeDue(db, 'deployments', one.id);
  }
}

async function releaseNumber(db: Db, moving: readonly DeploymentRow[]): Promise<number> {
  return (await releaseById(db, (moving.at(-1) as DeploymentRow).release_id)).number;
}

/** It takes nothing new until the hold is lifted. Returns the environment as it is then. */
export async function holdFor(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  actor: string,
  why: string,
): Promise<EnvironmentRow> {
  await holdEnvironment(db, environment.id, actor, why);
  await recordEvents(db, {
    type: 'environment.held',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
    data: { why },
  });
  return { ...environment, held_by: actor, held_why: why };
}

export async function hold(
  db: Db,
  project: ProjectRow,
  name: string,
  why: string,
  actor: string,
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  return holdFor(db, project, environment, actor, why);
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
