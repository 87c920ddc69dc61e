/** What people, and whoever comes to an address, ask of a review: that it wakes, sleeps, stays, begins anew, closes. */
import { CodedError } from '../../core/errors/errors.js';
import type { Wish } from '../../core/states.js';
import {
  type EnvironmentRow,
  closeEnvironments,
  environmentById,
  reopenLater,
} from '../../records/deployments/environments.js';
import { keepUntil } from '../../records/deployments/life.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';
import { stepLife } from './life.js';

/** Locked, open, and a review. */
async function openReview(db: Db, project: ProjectRow, name: string): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  if (environment.kind !== 'review')
    throw new CodedError('review_standing', { environment: placeOf(project, environment) });
  return environment;
}

/** It wakes, or falls asleep; in the same transaction as far as that goes at once. */
export async function wish(
  context: Context,
  db: Db,
  project: ProjectRow,
  name: string,
  wanted: Wish,
  actor: string,
): Promise<EnvironmentRow> {
  const environment = await openReview(db, project, name);
  const place = placeOf(project, environment);
  if (environment.live_id === null) throw new CodedError('review_empty', { environment: place });
  const asleep = environment.state === 'asleep' || environment.state === 'falling asleep';
  if (asleep === (wanted === 'asleep') && environment.state !== 'waking') return environment;
  await recordEvents(db, {
    type: 'environment.wished',
    project: project.id,
    subject: place,
    actor,
    data: { wish: wanted },
  });
  await stepLife({ context, db, environment }, null, wanted);
  return environmentById(db, environment.id);
}

/**
 * Somebody has come to its address. Nothing is recorded of it but that it is awake then. Gives the servers that go on for it where
 * they are: when all of them do, it answers.
 */
export async function wakeFor(context: Context, db: Db, environment: EnvironmentRow): Promise<string[]> {
  if (environment.state !== 'asleep' && environment.state !== 'falling asleep') return [];
  const { step, instances } = await stepLife({ context, db, environment }, null, 'awake');
  if (environment.depth !== 'frozen' || !step.effects.includes('thaw')) return [];
  return instances.filter(({ kind, wanted }) => kind === 'server' && wanted).map(({ id }) => id);
}

/** It does not close by itself before then. */
export async function keep(
  db: Db,
  project: ProjectRow,
  name: string,
  { until, actor }: { until: Date; actor: string },
): Promise<EnvironmentRow> {
  const environment = await openReview(db, project, name);
  await keepUntil(db, environment.id, until);
  await makeDue(db, 'environments', environment.id);
  await recordEvents(db, {
    type: 'environment.kept',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
    data: { until: until.toISOString() },
  });
  return environmentById(db, environment.id);
}

/** It closes, with all that it has; `again`: and is made anew as soon as nothing of it is left. */
export async function close(
  db: Db,
  project: ProjectRow,
  name: string,
  { again, actor }: { again: boolean; actor: string },
): Promise<EnvironmentRow> {
  const environment = await openReview(db, project, name);
  await closeEnvironments(db, project.id, { name });
  if (again) await reopenLater(db, environment.id, environment.outside);
  await makeDue(db, 'environments', environment.id);
  await recordEvents(db, {
    type: 'environment.closing',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
    data: again ? { why: 'anew' } : {},
  });
  return environmentById(db, environment.id);
}
