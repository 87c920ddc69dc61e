/** The life of an environment: facts from the records, a step from core, its effects in the same transaction. */
import { addWake } from '../../records/deployments/wakes.js';
import { missingInstances } from '../../core/advance/enter.js';
import { advanceLife, type LifeEffect, type LifeFacts, type LifeStep } from '../../core/advance/life.js';
import { instanceOver } from '../../core/advance/keep.js';
import type { Route } from '../../core/cutover/route.js';
import { type IdlePlan, idleOf } from '../../core/definition/model.js';
import { edgeSilenceMs, leadTo, routeBody, wakeRoute } from '../../records/callers/edges.js';
import {
  deploymentById,
  endLive,
  movingDeployments,
  setDeploymentState,
  stopAttemptsOf,
} from '../../records/deployments/deployments.js';
import {
  endClosing,
  environmentById,
  type EnvironmentRow,
  setServing,
  settleHost,
} from '../../records/deployments/environments.js';
import {
  freezeAll,
  instancesOf,
  instancesOfEnvironment,
  unwant,
  unwantOne,
} from '../../records/deployments/instances.js';
import {
  isCrowded,
  type LifeInstance,
  lifeOf,
  type LifeRow,
  markUsed,
  nextWaking,
  setLife,
} from '../../records/deployments/life.js';
import { lookAtPictures } from '../../records/deployments/pictures.js';
import { releaseById } from '../../records/deployments/releases.js';
import { removeJobsOf, stopJobsOf } from '../../records/jobs/jobs.js';
import { notify } from '../../records/database.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Wish } from '../../core/states.js';
import { dueBy, makeDue, setDue } from '../../records/runs/runs.js';
import { unwantResourcesOf } from '../../records/resources/resources.js';
import { issue } from '../../core/errors/errors.js';
import { type Context, type Db, domainOf } from '../context.js';
import { placeOf } from '../deployments/acts.js';
import { startOne, wishes } from '../deployments/scene.js';
import { targetFor } from '../deployments/routes.js';
import { removePasses } from '../../records/callers/passes.js';
import { removeAddressesOf } from '../domains/acts.js';

/** Environments that start programs at once, by agent. */
const wakingAtOnce = 4;
/** Milliseconds for which what is open may take, and for which sessions and programs may take to stand still. */
const drainMs = 30_000;
const settleMs = 10_000;

export interface Living {
  context: Context;
  db: Db;
  /** Locked. */
  environment: EnvironmentRow;
}

interface Scene extends Living {
  project: Pick<ProjectRow, 'id' | 'name'>;
  facts: LifeRow;
  idle: IdlePlan | null;
  asked: ReturnType<typeof wishes>;
}

/**
 * Takes the environment one step on, and says when it is to be looked at again; gives the step, and the programs as they were before
 * it. `sessions`: as they were seen just now. `wished`: what is asked of it from now on.
 */
export async function stepLife(
  living: Living,
  sessions: number | null = null,
  wished: Wish | null = null,
): Promise<{ step: LifeStep; instances: LifeInstance[] }> {
  const { db } = living;
  const environment = wished === null ? living.environment : { ...living.environment, wish: wished };
  const { id, state, depth, wake_issue } = environment;
  const scene = await sceneOf({ ...living, environment });
  // Nothing comes here any more, whatever was on its way.
  if (state === 'closing' && scene.facts.moving > 0) await endDeployments(scene);
  const step = advanceLife(await factsOf(scene, sessions));
  for (const effect of step.effects) await apply(scene, effect);
  const moved = step.state !== state;
  // What has closed is put away by itself.
  const unwish = step.effects.includes('unwish') && environment.wish !== null;
  const changed = moved || wished !== null || unwish || step.depth !== depth || step.wakeIssue !== wake_issue;
  if (changed && state !== 'closing') await setLife(db, id, { ...step, wish: unwish ? null : environment.wish });
  else await dueBy(db, 'environments', id, step.againMs);
  if (moved) await tell(scene, step);
  return { step, instances: scene.facts.instances };
}

async function sceneOf(living: Living): Promise<Scene> {
  const { db, environment } = living;
  const facts = await lifeOf(db, environment.id, edgeSilenceMs);
  const { deployment, release, plan } = facts;
  const idle = environment.kind === 'review' ? idleOf(plan ?? deployment?.environment_plan) : null;
  const project = { id: environment.project_id, name: facts.project };
  return {
    ...living,
    project,
    facts,
    idle,
    asked: deployment && release ? wishes({ deployment, release, environment }) : [],
  };
}

async function factsOf(
  { context, db, environment, facts, idle, asked }: Scene,
  sessions: number | null,
): Promise<LifeFacts> {
  const { state } = environment;
  const closing = state === 'closing';
  const review = environment.kind === 'review';
  const { instances } = facts;
  const wanted = instances.filter((row) => row.wanted);
  const since = environment.state_since.getTime();
  const broken =
    state === 'waking'
      ? instances.find((row) => row.state === 'failed' && row.issue?.code !== 'lease_over' && (row.ended ?? 0) >= since)
      : undefined;
  const servers = asked.filter((one) => one.kind === 'server' && one.count > 0);
  const answers = (name: string) => wanted.some((row) => row.part === name && row.state === 'ready' && !row.still);
  const limit = state === 'live' ? (idle?.awakeLimit ?? null) : null;
  return {
    now: context.now(),
    state,
    since,
    depth: environment.depth,
    wish: environment.wish,
    idle,
    usedAt: environment.used_at.getTime(),
    wokenAt: environment.woken_at.getTime(),
    pushedAt: Math.max(environment.opened_at.getTime(), facts.pushed ?? 0),
    keepUntil: environment.keep_until?.getTime() ?? null,
    crowded: limit !== null && (await isCrowded(db, environment, limit)),
    moving: facts.moving > 0,
    occupied: review && !closing && (facts.working || facts.terminals),
    jobAt: idle?.count.includes('jobs') ? facts.job : null,
    route: !facts.routed ? 'none' : facts.asleep ? 'asleep' : 'live',
    acknowledged: closing ? facts.acknowledged_by_all : facts.acknowledged,
    sessions,
    freezes: facts.deployment !== null && facts.freezes,
    programs: {
      asked: asked.reduce((sum, { count }) => sum + count, 0),
      wanted: wanted.length,
      ready: wanted.filter((row) => row.state === 'ready').length,
      frozen: wanted.filter((row) => row.state === 'frozen').length,
      over: wanted.filter(instanceOver).length,
      left: instances.filter((row) => !row.wanted && !instanceOver(row)).length,
    },
    askedAt: wanted.length ? Math.max(...wanted.map((row) => row.asked)) : null,
    ready: state === 'waking' && servers.every(({ name }) => answers(name)) && wanted.length > 0,
    failure: broken?.issue ?? null,
    wakeIssue: environment.wake_issue,
    turn: environment.depth !== 'ended' || facts.before < wakingAtOnce * Math.max(1, facts.agents),
    closing: { working: facts.working, resources: facts.resources, reopen: environment.reopen },
    limits: { awakeMs: context.timing.awake, drainMs, settleMs, readyMs: context.timing.ready + 5_000 },
  };
}

async function apply(scene: Scene, effect: LifeEffect): Promise<unknown> {
  const { context, db, environment, facts, asked } = scene;
  const { id, host, live_id: live } = environment;
  const put = (body: Route | null) => leadTo(db, environment, body === null ? null : environment.serving_id, body);
  switch (effect) {
    case 'routeAsleep': {
      const route = (await routeBody(db, host)) as Route | null;
      return route && !route.asleep ? put({ ...route, asleep: true }) : undefined;
    }
    case 'routeLive': {
      if (live === null) return;
      // Those that stood still are where they were.
      if (environment.depth === 'frozen') {
        const version = await wakeRoute(db, host);
        return version === null ? undefined : setServing(db, id, environment.serving_id, version);
      }
      const route = (await routeBody(db, host)) as Route | null;
      if (!route) return;
      const { asleep: _asleep, ...awake } = route;
      const deployment = await deploymentById(db, live);
      if (!deployment) return;
      const release = await releaseById(db, deployment.release_id);
      const instances = await instancesOf(db, live);
      const target = targetFor({ deployment, release, environment, instances }, context.keys);
      const targets = awake.targets.map((one) => (one.deployment === target.deployment ? { ...one, ...target } : one));
      return put({ ...awake, targets });
    }
    case 'unroute':
      await removeAddressesOf(db, environment);
      return put(null);
    case 'freeze':
      return live && freezeAll(db, live, true);
    case 'thaw':
      return live && freezeAll(db, live, false);
    case 'startPrograms': {
      const deployment = live === null ? null : await deploymentById(db, live);
      if (!deployment) return;
      for (const row of facts.instances) if (row.wanted && instanceOver(row)) await unwantOne(db, row.id);
      const release = await releaseById(db, deployment.release_id);
      const missing = missingInstances(
        asked.map(({ name, count }) => ({ name, instances: count })),
        facts.instances,
      );
      for (const place of missing) {
        const kind = asked.find((one) => one.name === place.part)?.kind ?? 'server';
        await startOne({ db, deployment, release, environment }, { kind, ...place });
      }
      return;
    }
    case 'endPrograms':
      return live && unwant(db, live, null);
    case 'unwish':
      // With the state.
      return;
    case 'used':
      return markUsed(db, [{ environment: id, at: context.now() }]);
    case 'endAll': {
      await lookAtPictures(db, id);
      await removeJobsOf(db, id);
      await stopJobsOf(db, id);
      const rows = await instancesOfEnvironment(db, id);
      for (const deployment of new Set(rows.filter((row) => row.wanted).map((row) => row.deployment_id)))
        await unwant(db, deployment, null);
      return;
    }
    case 'removeResources':
      return unwantResourcesOf(db, id);
    default:
      return effect satisfies never;
  }
}

/** Says what has become of it, and wakes whoever waits for that. */
async function tell(scene: Scene, { state, depth, wakeIssue }: LifeStep): Promise<void> {
  const { db, project, environment } = scene;
  const at = { project: project.id, subject: placeOf(project, environment), actor: 'engine' };
  const { id } = environment;
  if (state === 'asleep')
    await recordEvents(
      db,
      wakeIssue
        ? { ...at, type: 'environment.wake-failed', data: { issue: wakeIssue } }
        : { ...at, type: 'environment.asleep', data: { depth } },
    );
  if (state === 'live') await recordEvents(db, { ...at, type: 'environment.awake', data: { from: environment.depth } });
  if (state === 'live' || (state === 'asleep' && wakeIssue)) {
    if (environment.live_id) await makeDue(db, 'deployments', environment.live_id);
    if (scene.facts.moving > 0)
      for (const one of await movingDeployments(db, id)) await makeDue(db, 'deployments', one.id);
    if (environment.depth === 'ended') await nextWaking(db);
    if (state === 'live' && scene.idle?.awakeLimit != null)
      await addWake(db, environment.project_id, environment.plan_name);
  }
  if (state === 'closing') await recordEvents(db, { ...at, type: 'environment.closing', data: { why: 'unused' } });
  if (environment.state !== 'closing' || (state !== 'closed' && state !== 'empty')) return;
  await removePasses(db, id);
  const again = await endClosing(db, id);
  await recordEvents(db, { ...at, type: 'environment.closed' });
  if (!again) return;
  const { outside } = await environmentById(db, id);
  const domain = domainOf(scene.context.addresses, outside ? 'untrusted' : 'review');
  const host = await settleHost(db, { ...environment, projectName: project.name, domain });
  await recordEvents(db, { ...at, type: 'environment.made', data: { host } });
  await notify(db, 'environments');
}

async function endDeployments({ db, project, environment }: Scene): Promise<void> {
  const place = placeOf(project, environment);
  for (const one of await movingDeployments(db, environment.id)) {
    const why = issue('environment_closed', { environment: place });
    await stopAttemptsOf(db, one.id);
    await setDeploymentState(db, one.id, 'failed', why);
    await setDue(db, 'deployments', one.id, null);
    await recordEvents(db, {
      type: 'deployment.state',
      project: project.id,
      subject: `d${one.number}`,
      actor: 'engine',
      data: { state: 'failed', environment: place, issue: why },
    });
  }
  if (environment.live_id) await endLive(db, environment.live_id);
}
