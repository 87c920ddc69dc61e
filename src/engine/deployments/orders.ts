/** What people say while the traffic moves: stay, go on, back. */
import { CodedError } from '../../core/errors/errors.js';
import { lockCutover, orderCutover } from '../../records/deployments/cutovers.js';
import { type DeploymentRow, lockDeployment, movingDeployments } from '../../records/deployments/deployments.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Db } from '../context.js';
import { openEnvironment, placeOf } from './acts.js';

/** Counts for the step that it is in; `stage`: the one that they have seen, so that nobody hurries on one that has just begun. */
export async function orderStep(
  db: Db,
  project: ProjectRow,
  name: string,
  { order, stage, actor }: { order: 'stay' | 'go on' | 'back'; stage: number | null; actor: string },
): Promise<DeploymentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const found = (await movingDeployments(db, environment.id)).find(({ state }) => state === 'cutover');
  const deployment = found && (await lockDeployment(db, found.id));
  const row = deployment && (await lockCutover(db, deployment.id));
  if (!row || deployment.failure || (row.step.at !== 'share' && row.step.at !== 'mirror'))
    throw new CodedError('cutover_none', { environment: place });
  // Going back is never too late.
  if (stage !== null && stage !== row.stage && order !== 'back')
    throw new CodedError('cutover_moved', { environment: place });
  await orderCutover(db, deployment.id, order, actor);
  await recordEvents(db, {
    type: 'cutover.ordered',
    project: project.id,
    subject: `d${deployment.number}`,
    actor,
    data: { order, environment: place, step: row.step },
  });
  await makeDue(db, 'deployments', deployment.id);
  return deployment;
}
