/** Fresh programs of the same release: each is started beside the one that it replaces. */
import { CodedError } from '../../core/errors/errors.js';
import { hintFor } from '../../core/nearest.js';
import { instanceOver } from '../../core/advance/keep.js';
import { freshenParts, lockDeployment } from '../../records/deployments/deployments.js';
import { instancesOf } from '../../records/deployments/instances.js';
import { releaseById } from '../../records/deployments/releases.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Db } from '../context.js';
import { openEnvironment, placeOf } from './acts.js';
import { programsOf } from './scene.js';

/** Gives the parts, and the instances that are replaced. */
export async function restart(
  db: Db,
  project: ProjectRow,
  name: string,
  part: string | null,
  actor: string,
): Promise<{ parts: string[]; replaces: string[] }> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  // One that failed with nothing before it has the traffic, and no keeper that would replace its programs.
  const live = environment.live_id === environment.serving_id ? environment.live_id : null;
  const deployment = live && (await lockDeployment(db, live));
  if (!deployment) throw new CodedError('nothing_live', { environment: place });
  const programs = programsOf(await releaseById(db, deployment.release_id));
  if (part !== null && !programs.includes(part))
    throw new CodedError('not_found', { what: `The program ${part} of ${place}`, hint: hintFor(part, programs) });
  const parts = part === null ? programs : [part];
  const replaces = (await instancesOf(db, deployment.id))
    .filter((one) => parts.includes(one.part) && one.wanted && !instanceOver(one))
    .map((one) => one.id);
  await freshenParts(db, deployment, parts);
  await recordEvents(db, {
    type: 'environment.restarted',
    project: project.id,
    subject: place,
    actor,
    data: { parts: parts.join(', '), deployment: `d${deployment.number}` },
  });
  return { parts, replaces };
}
