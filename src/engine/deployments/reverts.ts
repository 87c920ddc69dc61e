/** Going back, and what keeps an environment where it is: revert, hold, lift. */
import { CodedError, issue } from '../../core/errors/errors.js';
import { type DeploymentRow, setFailure } from '../../records/deployments/deployments.js';
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

import { askDeployment, openEnvironment, placeOf, refuseGone } from './acts.js';
import { lookAtRevert } from './revert-ahead.js';
import type { Made } from './scene.js';

export interface RevertAsk {
  number: number | null;
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
  /** It was made for this; null: it is what was on its way, and ends. */
  made: Made | null;
}

/** A new deployment of what was live before, and a hold. While something moves, that is ended, and what served goes on. */
export async function revert(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  { number, actor, why, variables = 'then', oneWay = false }: RevertAsk,
): Promise<Reverted> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const look = await lookAtRevert(context, db, project, environment, number);
  const { release, then, live, moving } = look;
  if (look.keeps) {
    // What moves is ended, and what served goes on: that is what there is to go back to.
    await endMoving(db, moving, actor);
    const ended = `r${await releaseNumber(db, moving)}`;
    await holdFor(db, project, environment, actor, `reverted to r${release.number} while ${ended} was on its way`);
    return { deployment: moving.at(-1) as DeploymentRow, made: null };
  }
  refuseGone(release);
  if (live?.release === release.number && moving.length === 0)
    throw new CodedError('already_live', { release: `r${release.number}`, environment: place });
  if (look.oneWay.length && !oneWay)
    throw new CodedError('revert_one_way', {
      environment: place,
      files: look.oneWay.join(', '),
      release: release.number,
    });
  await endMoving(db, moving, actor);
  const ask = { project, environment, release, kind: 'revert' as const, actor, gets: look.gets };
  const deployment = await askDeployment(context, db, variables === 'then' ? { ...ask, then } : ask);
  const did = `reverted ${live ? `from r${live.release} ` : ''}to r${release.number}`;
  const held = await holdFor(db, project, environment, actor, why ?? did);
  const { warmed: warm, releases } = look;
  return { deployment, made: { project, environment: held, release, moving, warm, releases } };
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

/** It takes nothing new until somebody lifts that. Gives the environment as it is then. */
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
