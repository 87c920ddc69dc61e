/** Freezes by hand: for a while an environment takes nothing; going back is never held up. */
import { CodedError } from '../../core/errors/errors.js';
import { type EnvironmentRow, environmentById } from '../../records/deployments/environments.js';
import { setFreeze } from '../../records/deployments/rules.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';

const [shortestMs, longestMs] = [60_000, 366 * 86_400_000];

/** Another one takes the place of the one before. `until`: ISO 8601. */
export async function freeze(
  context: Pick<Context, 'now'>,
  db: Db,
  project: ProjectRow,
  name: string,
  { why, until, actor }: { why: string; until: string; actor: string },
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  const ends = Date.parse(until);
  const ahead = ends - context.now();
  if (!(ahead >= shortestMs && ahead <= longestMs)) throw new CodedError('freeze_end', { until });
  const kept = { by: actor, why, until: new Date(ends).toISOString() };
  await setFreeze(db, environment.id, kept);
  await recordEvents(db, {
    type: 'freeze.set',
    project: project.id,
    subject: placeOf(project, environment),
    actor,
    data: { why, until: kept.until },
  });
  await makeDue(db, 'environments', environment.id);
  return environmentById(db, environment.id);
}

export async function endFreeze(
  context: Pick<Context, 'now'>,
  db: Db,
  project: ProjectRow,
  name: string,
  actor: string,
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  if (!environment.frozen_by || Date.parse(environment.frozen_by.until) <= context.now())
    throw new CodedError('not_frozen', { environment: place });
  await setFreeze(db, environment.id, null);
  await recordEvents(db, { type: 'freeze.ended', project: project.id, subject: place, actor });
  await makeDue(db, 'environments', environment.id);
  return environmentById(db, environment.id);
}
