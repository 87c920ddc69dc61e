/** How many of a part a person wants in an environment, and how large. */
import { CodedError } from '../../core/errors/errors.js';
import { hintFor } from '../../core/nearest.js';
import { mostInstances, type SetSizes, type Size, sizeOf } from '../../core/scale/sizes.js';
import { freshenParts, lockDeployment } from '../../records/deployments/deployments.js';
import { setSizes } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { mainDefinition, type ProjectRow } from '../../records/projects/projects.js';
import { releaseById } from '../../records/deployments/releases.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Db } from '../context.js';
import { openEnvironment, placeOf } from './acts.js';
import { programsOf } from './scene.js';

export interface ScaleAsk {
  part: string;
  instances?: number;
  memory?: number;
  cpu?: number;
  /** What the definition says counts again. */
  reset?: boolean;
}

/** It counts from now on, and for what is deployed later; sizes that differ start the part's programs anew. */
export async function scale(
  db: Db,
  project: ProjectRow,
  name: string,
  { part: of, reset = false, ...asked }: ScaleAsk,
  actor: string,
): Promise<Size> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const deployment = environment.live_id ? await lockDeployment(db, environment.live_id) : null;
  const release = deployment ? await releaseById(db, deployment.release_id) : null;
  const main = await mainDefinition(db, project.id);
  const parts = release?.plan.parts ?? main?.model.release?.parts ?? {};
  const part = Object.hasOwn(parts, of) ? parts[of] : undefined;
  const programs = release ? programsOf(release) : Object.keys(parts);
  if (!part || part.kind === 'site' || part.kind === 'job')
    throw new CodedError('not_found', { what: `The program ${of} of ${place}`, hint: hintFor(of, programs) });
  if (
    asked.instances !== undefined &&
    (asked.instances > mostInstances || (asked.instances === 0 && part.kind !== 'worker'))
  )
    throw new CodedError('scale_wrong', { part: of, least: part.kind === 'worker' ? 0 : 1, most: mostInstances });
  const plan = deployment?.environment_plan ?? main?.model.environments[environment.plan_name] ?? { parts: {} };
  const before = sizeOf(part, plan, environment.sizes, environment.outside);
  const { [of]: own, ...others } = environment.sizes;
  const sizes: SetSizes = reset ? others : { ...others, [of]: { ...own, ...asked } };
  const now = sizeOf(part, plan, sizes, environment.outside);
  await setSizes(db, environment.id, sizes);
  if (deployment && (before.memory !== now.memory || before.cpu !== now.cpu)) await freshenParts(db, deployment, [of]);
  if (deployment) await makeDue(db, 'deployments', deployment.id);
  await recordEvents(db, {
    type: 'environment.scaled',
    project: project.id,
    subject: place,
    actor,
    data: { part: of, ...now },
  });
  return now;
}
