/** The life of an environment: facts from the records, a step from core, its effects in the same transaction. */
import { missingInstances } from '../../core/advance/enter.js';
import { advanceLife, type LifeEffect, type LifeFacts, type LifeStep } from '../../core/advance/life.js';
import { instanceOver } from '../../core/advance/keep.js';
import type { Route } from '../../core/cutover/route.js';
import { idleOf } from '../../core/definition/model.js';
import { hasTable, listEdges, putRoute, routeBody } from '../../records/callers/edges.js';
import {
  attemptsGoOn,
  deploymentById,
  type DeploymentRow,
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
} from '../../records/deployments/environments.js';
import {
  freezeAll,
  type InstanceRow,
  instancesOf,
  instancesOfEnvironment,
  unwant,
  unwantOne,
} from '../../records/deployments/instances.js';
import {
  agentsFreeze,
  isCrowded,
  lastAsked,
  liveAgents,
  lookForRoom,
  markUsed,
  nextWaking,
  setLife,
  setWish,
  terminalsGoOn,
  wakingBefore,
} from '../../records/deployments/life.js';
import { releaseById } from '../../records/deployments/releases.js';
import { firstJob, removeJobsOf, stopJobsOf } from '../../records/jobs/jobs.js';
import { notify } from '../../records/database.js';
import { recordEvents } from '../../records/events.js';
import { mainDefinition, type ProjectRow } from '../../records/projects/projects.js';
import { dueBy, makeDue, setDue } from '../../records/runs/runs.js';
import { resourcesOf, unwantResourcesOf } from '../../records/resources/resources.js';
import { issue } from '../../core/errors/errors.js';
import type { Context, Db } from '../context.js';
import { placeOf } from '../deployments/acts.js';
import { startOne, wishes } from '../deployments/scene.js';
import { targetFor } from '../deployments/routes.js';
import { removeAddressesOf } from '../domains/acts.js';

/** Environments that start programs at once, by agent. */
const wakingAtOnce = 4;
/** Milliseconds for which what is open may take, and for which sessions and programs may take to stand still. */
const drainMs = 30_000;
const settleMs = 10_000;

export interface Living {
  context: Context;
  db: Db;
  project: Pick<ProjectRow, 'id' | 'name'>;
  /** Locked. */
  environment: EnvironmentRow;
}

interface Scene extends Living {
  live: DeploymentRow | null;
  /** Of what is live. */
  instances: InstanceRow[];
  asked: ReturnType<typeof wishes>;
  moving: DeploymentRow[];
}

/** As many steps as follow at once from what was done; more of them come with the next look. */
const mostSteps = 4;

/** Takes the environment through what follows now, and says when it is to be looked at again. `sessions`: as they were seen just now. */
export async function stepLife(living: Living, sessions: number | null = null): Promise<void> {
  const { db } = living;
  const { id } = living.environment;
  let { environment } = living;
  for (let steps = 0; steps < mostSteps; steps++) {
    const scene = await sceneOf({ ...living, environment });
    const { state, depth, wake_issue } = environment;
    // Nothing comes here any more, whatever was on its way.
    if (state === 'closing') await endDeployments(scene);
    const step = advanceLife(await factsOf(scene, sessions));
    for (const effect of step.effects) await apply(scene, effect);
    const moved = step.state !== state;
    const changed = moved || step.depth !== depth || step.wakeIssue !== wake_issue;
    // What has closed is put away by itself.
    if (changed && state !== 'closing') await setLife(db, id, step);
    if (moved) await tell(scene, step);
    if (!changed || state === 'closing') return dueBy(db, 'environments', id, step.againMs);
    environment = await environmentById(db, id);
  }
  await dueBy(db, 'environments', id, 0);
}

async function sceneOf(living: Living): Promise<Scene> {
  const { db, environment } = living;
  const live = environment.live_id ? await deploymentById(db, environment.live_id) : null;
  const release = live && (await releaseById(db, live.release_id));
  return {
    ...living,
    live,
    instances: live ? await instancesOf(db, live.id) : [],
    asked: live && release ? wishes({ deployment: live, release, environment }) : [],
    moving: await movingDeployments(db, environment.id),
  };
}

async function factsOf(scene: Scene, sessions: number | null): Promise<LifeFacts> {
  const { context, db, environment, live, instances, asked, moving } = scene;
  const { state } = environment;
  const closing = state === 'closing';
  const review = environment.kind === 'review';
  const main = review ? await mainDefinition(db, environment.project_id) : null;
  const idle = review ? idleOf(main?.model.environments[environment.plan_name] ?? live?.environment_plan) : null;
  const route = (await routeBody(db, environment.host)) as Route | null;
  const edges = (await listEdges(db)).filter((edge) => closing || edge.alive);
  const own = closing ? await instancesOfEnvironment(db, environment.id) : instances;
  const wanted = own.filter((row) => row.wanted);
  const since = environment.state_since.getTime();
  const broken =
    state === 'waking'
      ? own.find(
          (row) =>
            row.state === 'failed' && row.issue?.code !== 'lease_over' && (row.ended_at?.getTime() ?? 0) >= since,
        )
      : undefined;
  const servers = asked.filter((one) => one.kind === 'server' && one.count > 0);
  const answers = (name: string) => wanted.some((row) => row.part === name && row.state === 'ready' && !row.still);
  const waking = state === 'waking' && environment.depth === 'ended';
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
    pushedAt: Math.max(
      environment.opened_at.getTime(),
      review ? ((await lastAsked(db, environment.id))?.getTime() ?? 0) : 0,
    ),
    keepUntil: environment.keep_until?.getTime() ?? null,
    crowded: limit !== null && (await isCrowded(db, environment, limit)),
    moving: moving.length > 0,
    occupied:
      review && !closing && ((await attemptsGoOn(db, environment.id)) || (await terminalsGoOn(db, environment.id))),
    jobAt:
      state === 'asleep' && idle?.count.includes('jobs')
        ? ((await firstJob(db, environment.id))?.getTime() ?? null)
        : null,
    route: route === null ? 'none' : route.asleep ? 'asleep' : 'live',
    acknowledged: edges.every((edge) => hasTable(edge, environment.host, environment.table_version).has),
    sessions,
    freezes: live !== null && state === 'live' && (await agentsFreeze(db, live.id)),
    programs: {
      asked: asked.reduce((sum, { count }) => sum + count, 0),
      wanted: wanted.length,
      ready: wanted.filter((row) => row.state === 'ready').length,
      frozen: wanted.filter((row) => row.state === 'frozen').length,
      over: wanted.filter(instanceOver).length,
      left: own.filter((row) => !row.wanted && !instanceOver(row)).length,
    },
    ready: state === 'waking' && servers.every(({ name }) => answers(name)) && wanted.length > 0,
    failure: broken?.issue ?? null,
    wakeIssue: environment.wake_issue,
    turn: !waking || (await wakingBefore(db, environment.id)) < wakingAtOnce * (await liveAgents(db)),
    closing: {
      working: closing && (await attemptsGoOn(db, environment.id)),
      resources: closing ? (await resourcesOf(db, environment.id)).length : 0,
      reopen: environment.reopen,
    },
    limits: { awakeMs: context.timing.awake, drainMs, settleMs, readyMs: context.timing.ready + 5_000 },
  };
}

async function apply(scene: Scene, effect: LifeEffect): Promise<unknown> {
  const { context, db, environment, live, instances, asked } = scene;
  const { id, host } = environment;
  const put = async (body: Route | null) =>
    setServing(db, id, body === null ? null : environment.serving_id, await putRoute(db, host, id, body));
  switch (effect) {
    case 'routeAsleep': {
      const route = (await routeBody(db, host)) as Route | null;
      return route && !route.asleep ? put({ ...route, asleep: true }) : undefined;
    }
    case 'routeLive': {
      const route = (await routeBody(db, host)) as Route | null;
      if (!route || !live) return;
      const { asleep: _asleep, ...awake } = route;
      const release = await releaseById(db, live.release_id);
      const target = targetFor({ deployment: live, release, environment, instances }, context.keys);
      // Its programs may be others than when it fell asleep.
      const targets = awake.targets.map((one) => (one.deployment === target.deployment ? { ...one, ...target } : one));
      return put({ ...awake, targets });
    }
    case 'unroute':
      await removeAddressesOf(db, environment);
      return put(null);
    case 'freeze':
      return live && freezeAll(db, live.id, true);
    case 'thaw':
      return live && freezeAll(db, live.id, false);
    case 'startPrograms': {
      if (!live) return;
      for (const row of instances) if (row.wanted && instanceOver(row)) await unwantOne(db, row.id);
      const release = await releaseById(db, live.release_id);
      const missing = missingInstances(
        asked.map(({ name, count }) => ({ name, instances: count })),
        instances,
      );
      for (const place of missing) {
        const kind = asked.find((one) => one.name === place.part)?.kind ?? 'server';
        await startOne({ db, deployment: live, release, environment }, { kind, ...place });
      }
      return;
    }
    case 'endPrograms':
      return live && unwant(db, live.id, null);
    case 'unwish':
      return environment.wish && setWish(db, id, null);
    case 'used':
      return markUsed(db, [{ environment: id, at: context.now() }]);
    case 'endAll': {
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
  const { db, project, environment, live, moving } = scene;
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
    await markUsed(db, [{ environment: id, at: scene.context.now() }]);
    if (live) await makeDue(db, 'deployments', live.id);
    for (const one of moving) await makeDue(db, 'deployments', one.id);
    if (environment.depth === 'ended') await nextWaking(db);
    if (state === 'live') await lookForRoom(db, environment.project_id, environment.plan_name);
  }
  if (state === 'closing') await recordEvents(db, { ...at, type: 'environment.closing', data: { why: 'unused' } });
  if (environment.state !== 'closing' || (state !== 'closed' && state !== 'empty')) return;
  const again = await endClosing(db, id);
  await recordEvents(db, { ...at, type: 'environment.closed' });
  if (!again) return;
  await recordEvents(db, { ...at, type: 'environment.made', data: { host: environment.host } });
  await notify(db, 'environments');
}

async function endDeployments({ db, project, environment, moving }: Scene): Promise<void> {
  const place = placeOf(project, environment);
  for (const one of moving) {
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
