/** Going back, and what keeps an environment where it is: revert, hold, lift. */
import { revertTarget } from '../../core/advance/environments.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import {
  asPast,
  type DeploymentRow,
  deploymentsOf,
  movingDeployments,
  setFailure,
} from '../../records/deployments/deployments.js';
import {
  type EnvironmentRow,
  holdEnvironment,
  liftEnvironment,
  lockEnvironment,
} from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import { releaseById } from '../../records/deployments/releases.js';
import type { Context, Db } from '../context.js';

import { askDeployment, needRelease, openEnvironment, placeOf, refuseGone } from './acts.js';

/** A new deployment of what was live before, with the variables of then, and a hold. */
export async function revert(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
  actor: string,
  /** Of the hold; left out: what was done. */
  why?: string,
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const past = await deploymentsOf(db, environment.id, 200);
  const live = past.find((one) => one.id === environment.live_id) ?? null;
  const moving = await movingDeployments(db, environment.id);
  if (moving.length && live && (number === null || number === live.release)) {
    // What moves is ended, and what served goes on: that is what there is to go back to.
    await endMoving(db, moving, actor);
    await holdFor(
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
  await holdFor(
    db,
    project,
    environment,
    actor,
    why ?? `reverted ${live ? `from r${live.release} ` : ''}to r${target}`,
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

/** It takes nothing new until somebody lifts that. */
export async function holdFor(
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
  await holdFor(db, project, environment, actor, why);
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
