/** Parts whose number the processor decides on: looked at every ten seconds, changed under the lock of their environment. */
import { merge } from '../../core/figures/figures.js';
import { controlled, downWindow, type Load } from '../../core/scale/controller.js';
import { sizeOf } from '../../core/scale/sizes.js';
import { lockDeployment } from '../../records/deployments/deployments.js';
import {
  environmentById,
  lockEnvironment,
  scaledEnvironments,
  setSizes,
} from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { readFigures } from '../../records/figures/figures.js';
import { instancesOf } from '../../records/deployments/instances.js';
import { projectById } from '../../records/projects/projects.js';
import { releaseById } from '../../records/deployments/releases.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Context } from '../context.js';
import { placeOf } from './acts.js';

/** Cores that one is reckoned with that may take all that are free. */
const freeCores = 1;

export async function controlScale(context: Context): Promise<void> {
  for (const id of await scaledEnvironments(context.records)) await controlOne(context, id);
}

async function controlOne(context: Context, id: string): Promise<void> {
  const { records } = context;
  const now = context.now() / 1_000;
  // Read before the lock: what was counted does not change any more.
  const figures = await readFigures(records, 10, id, now - downWindow - 20, now);
  await records.transition('environment.controlled', async (db) => {
    const environment = await lockEnvironment(db, id);
    if (!environment.live_id || environment.live_id !== environment.serving_id) return;
    const deployment = await lockDeployment(db, environment.live_id);
    if (!deployment) return;
    const release = await releaseById(db, deployment.release_id);
    const instances = await instancesOf(db, deployment.id);
    for (const part of Object.values(release.plan.parts)) {
      if (part.kind === 'site' || part.kind === 'job') continue;
      const size = sizeOf(part, deployment.environment_plan, environment.sizes, environment.outside);
      if (!size.auto) continue;
      const own = environment.sizes[part.name];
      const count = controlled({
        now,
        auto: size.auto,
        count: size.instances,
        ready: instances.filter((one) => one.part === part.name && one.wanted && one.state === 'ready').length,
        each: size.cpu ?? freeCores,
        loads: loadsOf(figures.filter((one) => one.part === part.name && one.deployment === deployment.number)),
        changedAt: own?.found?.at ?? null,
      });
      if (count === size.instances) continue;
      environment.sizes = { ...environment.sizes, [part.name]: { ...own, found: { instances: count, at: now } } };
      await setSizes(db, id, environment.sizes);
      await makeDue(db, 'deployments', deployment.id);
      const project = await projectById(db, environment.project_id);
      await recordEvents(db, {
        type: 'environment.scaled',
        project: project.id,
        subject: placeOf(project, await environmentById(db, id)),
        actor: 'engine',
        data: { part: part.name, instances: count, before: size.instances },
      });
    }
  });
}

/** What a part took in each slot in which an agent has looked at it. */
const loadsOf = (figures: Parameters<typeof merge>[0]): Load[] =>
  merge(
    figures.filter((one) => one.memory > 0),
    (one) => ({ ...one, instance: '' }),
    (a, b) => a + b,
  ).map((one) => ({ at: one.at, cores: one.cpu / 10_000 }));
