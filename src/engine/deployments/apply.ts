/** The effects of a deployment's step, in the transaction of the step. */
import { addWake } from '../../records/deployments/wakes.js';
import { type Judged, type Route, routeNext, routeTo, routeWithoutNext } from '../../core/cutover/route.js';
import type { Read } from './facts.js';
import { askForResources } from './needs.js';
import type { Context } from '../context.js';
import { accessOf, gateOf } from '../environments/gate.js';
import { targetFor } from './routes.js';
import { endHealth, tellEvidence } from './health.js';
import { recordComparison } from './comparison.js';
import { enterShare, followShares, watchAll } from './shares.js';
import { cutoverOf, enterStep, setWaitsOf } from '../../records/deployments/cutovers.js';
import { syncJobs } from '../jobs/jobs.js';
import { stopJobsOf } from '../../records/jobs/jobs.js';
import { pictureShown } from '../pictures/pictures.js';
import { recordEvents } from '../../records/events.js';
import { leadTo, routeBody } from '../../records/callers/edges.js';
import { backOf } from '../../core/advance/back.js';
import { missingInstances, retires, takesWarm } from '../../core/advance/enter.js';
import { makeDue } from '../../records/runs/runs.js';
import { coolOthers, setHealth, setLive, setSeeded } from '../../records/deployments/environments.js';
import { canonical } from '../../core/canonical.js';
import { idleOf } from '../../core/definition/model.js';
import { addAttempts } from '../../records/runs/attempts.js';
import { type Scene, startOne, wishes } from './scene.js';
import { type ReleaseRow, addEvidence, releaseById } from '../../records/deployments/releases.js';
import { type InstanceRow, adoptWarm, unwant } from '../../records/deployments/instances.js';
import {
  type DeploymentRow,
  deploymentById,
  retireDeployment,
  warmDeployment,
  type WithState,
} from '../../records/deployments/deployments.js';
import type { DeploymentEffect } from '../../core/advance/deployments.js';

/** Deployments of one environment that stay warm at a time. */
const warmAtMost = 2;

/** Milliseconds for which its replaced servers stay ready. */
export const warmFor = (
  { timing }: Pick<Context, 'timing'>,
  { environment_plan }: Pick<DeploymentRow, 'environment_plan'>,
): number => environment_plan.warm ?? timing.warm;

/** What is written of the deployment itself when the steps of a transaction are done. */
export interface Owed extends Pick<WithState, 'replaces' | 'seen' | 'back'> {
  /** Its state, or its failure, is another one. */
  changed: boolean;
  /** The table leads elsewhere than when it was read. */
  led: boolean;
}

/** Effects that put another table. */
const leads: readonly DeploymentEffect['do'][] = ['close', 'announce', 'share', 'followShares', 'serve'];

/** Gives whether somebody answers to it: an agent, or an edge, makes the deployment due then. */
export async function apply(scene: Scene, effect: DeploymentEffect, read: Read, owed: Owed): Promise<boolean> {
  const { db, context, environment, deployment, release, before } = scene;
  const led = owed.led;
  owed.led ||= leads.includes(effect.do);
  const target = (which: 'this' | 'before') => (which === 'this' || !before ? scene : before);
  switch (effect.do) {
    case 'resources':
      await askForResources(
        // A deployment that begins needs what its first step will need.
        { ...scene, deployment: { ...deployment, state: 'preparing' } },
        read.attempts,
      );
      return false;
    case 'seeded':
      await setSeeded(db, environment.id);
      return false;
    case 'prepare':
    case 'seed':
    case 'verify': {
      const number = read.attempts.filter((one) => one.kind === effect.do).length + 1;
      const needs = { takes: 'live' as const, base: null };
      await addAttempts(db, [
        {
          kind: effect.do,
          task: null,
          deployment: deployment.id,
          project: deployment.project_id,
          number,
          needs,
          priority: 0,
          ...(effect.do === 'seed' && deployment.environment_plan.seed
            ? { part: deployment.environment_plan.seed.part }
            : {}),
        },
      ]);
      return false;
    }
    case 'close':
      await closeRoute(scene);
      return false;
    case 'endBefore':
      await unwant(db, target('before').deployment.id, null);
      await stopJobsOf(db, environment.id);
      return false;
    case 'startServers':
      if (effect.of === 'before') return startMissing({ ...scene, ...target('before') }, 'server');
      return !(await takeWarm(scene)) && startMissing(scene, 'server');
    case 'serve': {
      const { deployment: row, release: bytes, instances } = target(effect.which);
      const judged = effect.which === 'this' ? await watchAll(scene, warmFor(context, deployment)) : null;
      if (effect.which === 'before' && (await cutoverOf(db, deployment.id)))
        await enterStep(db, { deployment: deployment.id, before: row.id, step: { at: 'back' } });
      await moveTraffic(scene, row, bytes, instances, judged, led ? undefined : read.route);
      if (effect.which === 'this') owed.seen = true;
      return read.edges.some((edge) => edge.alive);
    }
    case 'share':
      await enterShare(scene, effect.step);
      return false;
    case 'announce':
      await announce(scene, effect.comes);
      return read.edges.some((edge) => edge.alive);
    case 'followShares':
      await followShares(scene);
      return false;
    case 'sayWaits':
      await setWaitsOf(db, deployment.id, effect.why);
      return false;
    case 'endWorkers':
      await unwant(db, target(effect.of).deployment.id, 'worker');
      return false;
    case 'startWorkers':
      return startMissing({ ...scene, ...target(effect.of) }, 'worker');
    case 'endServers':
      // Ended by `cool`, once no edge has them in its table.
      return false;
    case 'goLive': {
      if (before) await endHealth({ ...scene, of: before });
      if (deployment.kind !== 'revert') owed.back = await backFor(scene);
      await setLive(db, environment.id, deployment.id);
      await setHealth(db, environment.id, 'good');
      await syncJobs(context, db, environment.id, release);
      const by = {
        kind: deployment.kind,
        undoes: deployment.undoes,
        standing: environment.kind === 'standing',
        warmMs: warmFor(context, deployment),
      };
      const retired = before && retires(before.deployment.state, by);
      if (retired) {
        await retireDeployment(db, before.deployment.id, retired.state, retired.warmMs);
        await coolOthers(db, environment.id, warmAtMost);
        await recordEvents(db, {
          type: 'deployment.replaced',
          project: deployment.project_id,
          subject: `d${before.deployment.number}`,
          actor: 'engine',
          data: { state: retired.state, by: `d${deployment.number}`, environment: scene.place },
        });
      } else if (before) await makeDue(db, 'deployments', before.deployment.id);
      if (deployment.environment_plan.verify && deployment.kind !== 'revert') {
        const row = await addEvidence(db, release, {
          kind: 'verification',
          name: environment.name,
          source: `d${deployment.number}`,
          detail: { environment: environment.name, deployment: deployment.number },
        });
        if (row) await tellEvidence(db, scene.project, environment.name, release, row);
      }
      await recordComparison(scene);
      await pictureShown(db, environment, deployment, release.plan);
      if (environment.kind === 'review') await addWake(db, deployment.project_id, environment.plan_name);
      // Only standing environments follow other ones, and they follow standing ones.
      else await addWake(db, deployment.project_id);
      return false;
    }
    default:
      return effect satisfies never;
  }
}

/** What a revert from it goes back to: it takes the place of what is live until now. */
async function backFor({ db, environment, deployment, release, before }: Scene): Promise<string | null> {
  const id = environment.live_id;
  if (id === null) return null;
  const known = before?.deployment.id === id ? before : null;
  const live = known?.deployment ?? (await deploymentById(db, id));
  if (!live) return null;
  const { number } = known?.release ?? (await releaseById(db, live.release_id));
  return backOf(
    { release: release.number, variables: deployment.variables },
    { id: live.id, release: number, variables: live.variables, back: live.back_id },
  );
}

export async function moveTraffic(
  scene: Scene,
  row: DeploymentRow,
  release: ReleaseRow,
  instances: readonly InstanceRow[],
  judged: Judged | null = null,
  known?: Route | null,
): Promise<void> {
  const { db, environment } = scene;
  // What was answered until now stays in the table with its sites: pages that are open ask for their files.
  const before = known === undefined ? ((await routeBody(db, environment.host)) as Route | null) : known;
  const target = targetFor({ deployment: row, release, environment, instances }, scene.context.keys);
  const idle = environment.kind === 'review' ? idleOf(row.environment_plan) : null;
  const uses = idle
    ? {
        requests: idle.count.includes('requests'),
        connections: idle.count.includes('connections'),
        except: idle.except,
      }
    : undefined;
  const gate = gateOf(scene.context, await accessOf(db, environment));
  // What is watched goes on to be so when an instance of it is another one.
  const still = before?.judged?.now === target.deployment && (before.judged.until ?? 0) > scene.context.now();
  const watched = judged ?? (still ? before?.judged : null);
  const route = routeTo(before, scene.place, target, scene.context.now(), {
    ...(uses ? { uses } : {}),
    ...(gate ? { gate } : {}),
    ...(watched ? { judged: watched } : {}),
  });
  const version = await leadTo(db, environment, row.id, route);
  await recordEvents(db, {
    type: 'traffic.moved',
    project: row.project_id,
    subject: scene.place,
    actor: 'engine',
    data: { deployment: `d${row.number}`, release: `r${release.number}`, version },
  });
}

/** The table says what is next, or that it does not come; who has the traffic keeps it. */
async function announce({ db, context, environment, deployment, release, instances, place }: Scene, comes: boolean) {
  const route = (await routeBody(db, environment.host)) as Route | null;
  const next = () => targetFor({ deployment, release, environment, instances }, context.keys);
  const body = comes ? routeNext(route, place, next()) : route && routeWithoutNext(route);
  await leadTo(db, environment, environment.serving_id, body);
}

/** Visitors are led to no program from now on; what stands in the table stays, for the files of its sites. */
async function closeRoute({ db, environment, deployment, before, place }: Scene): Promise<void> {
  const route = (await routeBody(db, environment.host)) as Route | null;
  if (!route || !before) return;
  const version = await leadTo(db, environment, before.deployment.id, { ...route, closed: true });
  await recordEvents(db, {
    type: 'traffic.stopped',
    project: deployment.project_id,
    subject: place,
    actor: 'engine',
    data: { for: `d${deployment.number}`, version },
  });
}

/** A revert takes the servers of the release's last deployment here over while they are warm. */
async function takeWarm(scene: Scene): Promise<boolean> {
  const { db, deployment, environment, release } = scene;
  const earlier =
    scene.warm === undefined
      ? await warmDeployment(db, environment.id, release.id, deployment.id, deployment.restores_id)
      : scene.warm;
  const facts = {
    kind: deployment.kind,
    instances: scene.instances.length,
    warm: earlier !== null,
    sameSecrets: canonical(earlier?.secrets ?? null) === canonical(deployment.secrets ?? null),
    sameVariables: canonical(earlier?.variables ?? null) === canonical(deployment.variables),
  };
  return earlier !== null && takesWarm(facts) && (await adoptWarm(db, earlier.id, deployment.id)) > 0;
}

async function startMissing(
  scene: Pick<Scene, 'db' | 'deployment' | 'release' | 'environment' | 'instances'>,
  kind: 'server' | 'worker',
): Promise<boolean> {
  const { db, deployment, instances } = scene;
  const parts = wishes(scene).filter((one) => one.kind === kind);
  const missing = missingInstances(
    parts.map(({ name, count }) => ({ name, instances: count })),
    instances,
  );
  for (const place of missing) await startOne(scene, { kind, ...place });
  if (missing.length)
    await recordEvents(db, {
      type: 'instance.asked',
      project: deployment.project_id,
      subject: `d${deployment.number}`,
      actor: 'engine',
      data: { kind, count: missing.length },
    });
  return missing.length > 0;
}
