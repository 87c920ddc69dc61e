/** Deployments on their way, and what is live: facts from the records, a step from core, its effects in the same transaction. */
import {
  advanceDeployment,
  type DeploymentEffect,
  type DeploymentFacts,
  type InstanceFact,
  type StepFact,
} from '../../core/advance/deployments.js';
import { healthOf } from '../../core/advance/environments.js';
import {
  coolDeployment,
  type KeptInstance,
  type Replaced,
  replaceEnded,
  replaceLetDown,
} from '../../core/advance/keep.js';
import { issue, type Issue, registry, wording } from '../../core/errors/errors.js';
import { deploymentMoving } from '../../core/states.js';
import { hasTable, listEdges, putRoute, routeBody } from '../../records/agents.js';
import { addAttempts, attemptsOfDeployment } from '../../records/attempts.js';
import {
  type DeploymentRow,
  deploymentById,
  lockDeployment,
  movingDeployments,
  retireDeployment,
  setDeploymentState,
  setReplaces,
  warmDeployment,
  lockDeployments,
} from '../../records/deployments.js';
import {
  type EnvironmentRow,
  lockEnvironment,
  setHealth,
  setLive,
  setServing,
  coolOthers,
  dueEnvironments,
  lockEnvironments,
} from '../../records/environments.js';
import { recordEvents } from '../../records/events.js';
import { addInstance, adoptWarm, type InstanceRow, instancesOf, unwant, unwantOne } from '../../records/instances.js';
import { projectById } from '../../records/projects.js';
import { addEvidence, releaseById, type ReleaseRow } from '../../records/releases.js';
import { makeDue, setDue, takeDue } from '../../records/runs.js';
import type { Context, Db } from '../context.js';
import { routeOf } from './routes.js';

/** Everything about one deployment, locked: the environment first, then the deployment. */
interface Scene {
  db: Db;
  context: Context;
  environment: EnvironmentRow;
  deployment: DeploymentRow;
  release: ReleaseRow;
  instances: InstanceRow[];
  before: { deployment: DeploymentRow; release: ReleaseRow; instances: InstanceRow[] } | null;
  /** `sailings/staging`. */
  place: string;
}

export async function stepDeployments(context: Context): Promise<boolean> {
  const due = await takeDue(context.records, 'deployments', context.timing.lease);
  if (!due) return false;
  const { id } = due;
  const found = await deploymentById(context.records, id);
  if (!found) return true;
  await context.records.transition(`deployment.${found.state}`, async (db) => {
    const scene = await enter(context, db, found);
    if (deploymentMoving(scene.deployment.state)) await advance(scene);
    else if (scene.environment.live_id === id) await keepLive(scene);
    else await cool(scene);
  });
  return true;
}

async function enter(context: Context, db: Db, found: DeploymentRow): Promise<Scene> {
  // What becomes live wakes the project's other environments: all of them are locked, in their order, before any deployment is.
  if (found.state === 'verifying' || found.state === 'cutover') await lockEnvironments(db, found.project_id);
  const environment = await lockEnvironment(db, found.environment_id);
  const other = found.replaces_id ?? environment.serving_id;
  await lockDeployments(db, other === null ? [found.id] : [found.id, other]);
  const deployment = (await lockDeployment(db, found.id)) as DeploymentRow;
  const project = await projectById(db, deployment.project_id);
  const load = async (row: DeploymentRow) => ({
    deployment: row,
    release: await releaseById(db, row.release_id),
    instances: await instancesOf(db, row.id),
  });
  const own = await load(deployment);
  const beforeId = deployment.state === 'queued' ? environment.serving_id : deployment.replaces_id;
  const beforeRow = beforeId && beforeId !== deployment.id ? await lockDeployment(db, beforeId) : null;
  return {
    db,
    context,
    environment,
    ...own,
    before: beforeRow ? await load(beforeRow) : null,
    place: `${project.name}/${environment.name}`,
  };
}

/** States in which a deployment may have the traffic for good. */
const serves = (state: DeploymentRow['state']): boolean => state === 'live' || state === 'failed';

const partsOf = (release: ReleaseRow, kind: 'server' | 'worker') =>
  Object.values(release.plan.parts).filter((part) => part.kind === kind);
const asked = (release: ReleaseRow, kind: 'server' | 'worker') =>
  partsOf(release, kind).reduce((sum, part) => sum + part.instances, 0);
const facts = (rows: readonly InstanceRow[], kind: 'server' | 'worker'): InstanceFact[] =>
  rows.filter((row) => row.kind === kind).map(({ id, state, wanted }) => ({ id, state, wanted }));
const ended = (row: InstanceRow) => row.state === 'failed' || row.state === 'ended' || row.state === 'lost';

const kept = (rows: readonly InstanceRow[]): KeptInstance[] =>
  rows.map((row) => ({
    id: row.id,
    part: row.part,
    kind: row.kind,
    position: row.position,
    state: row.state,
    wanted: row.wanted,
    restarts: row.restarts,
    livedMs: row.ended_at && row.ready_at ? row.ended_at.getTime() - row.ready_at.getTime() : 0,
    letDown: row.state === 'lost' || (row.state === 'failed' && row.issue?.code === 'lease_over'),
  }));

async function replace({ db, deployment }: Scene, { giveUp, start }: Replaced): Promise<void> {
  for (const id of giveUp) await unwantOne(db, id);
  for (const one of start) await addInstance(db, { deployment: deployment.id, ...one });
}

/** An agent that went away, or lost touch for longer than a lease, says nothing of the release. */
async function startAgain(scene: Scene): Promise<void> {
  const { db, deployment, environment } = scene;
  const again = replaceLetDown(kept(scene.instances));
  if (deployment.failure || environment.state === 'closing' || again.giveUp.length === 0) return;
  await replace(scene, again);
  scene.instances = await instancesOf(db, deployment.id);
}

async function advance(scene: Scene): Promise<void> {
  await startAgain(scene);
  const { db, context, deployment, environment, before, release } = scene;
  const [attempts, moving, edges] = [
    await attemptsOfDeployment(db, deployment.id),
    await movingDeployments(db, environment.id),
    await listEdges(db),
  ];
  const stepFact = (kind: 'prepare' | 'verify', declared: boolean): StepFact => {
    const last = attempts.filter((one) => one.kind === kind).at(-1);
    return { declared, attempt: last?.state ?? null, why: last?.issue ? wording(last.issue).says : '' };
  };
  const broken = scene.instances.find((row) => row.wanted && ended(row));
  const tables = edges
    .filter((edge) => edge.alive)
    .map((edge) => ({ edge: edge.name, ...hasTable(edge, environment.host, environment.table_version) }));
  const refusing = tables.find((one) => one.why !== null && !registry[one.why.code]?.retry);
  const given: DeploymentFacts = {
    now: context.now(),
    state: deployment.state,
    kind: deployment.kind,
    failure:
      deployment.failure ??
      (environment.state === 'closing' ? issue('environment_closed', { environment: scene.place }) : null),
    // What took the place of another one has its own time.
    since: Math.max(
      deployment.state_since.getTime(),
      ...scene.instances.filter((row) => row.wanted).map((row) => row.created_at.getTime()),
    ),
    blocked: moving.some((one) => one.number < deployment.number),
    overtaken:
      deployment.kind === 'automatic' && moving.some((one) => one.number > deployment.number && one.state === 'queued'),
    prepare: stepFact('prepare', release.plan.prepare !== null),
    verify: stepFact('verify', deployment.environment_plan.verify !== null),
    serversAsked: asked(release, 'server'),
    workersAsked: asked(release, 'worker'),
    servers: facts(scene.instances, 'server'),
    workers: facts(scene.instances, 'worker'),
    instanceFailure: broken
      ? (broken.issue ??
        issue(broken.state === 'lost' ? 'agent_lost' : 'ended_at_once', {
          part: broken.part,
          agent: 'of this instance',
          exit: broken.exit ?? '',
          line: '',
        }))
      : null,
    // One that failed with nothing before it serves on: it is what there was, as much as one that is live.
    before:
      before && serves(before.deployment.state)
        ? { workersAsked: asked(before.release, 'worker'), workers: facts(before.instances, 'worker') }
        : null,
    serving:
      environment.serving_id === deployment.id
        ? 'this'
        : environment.serving_id !== null && environment.serving_id === before?.deployment.id
          ? 'before'
          : 'none',
    acknowledged: tables.every((one) => one.has),
    edgeRefusal: refusing
      ? issue('edge_refused', { edge: refusing.edge, detail: wording(refusing.why as Issue).says })
      : null,
    limits: { readyMs: context.timing.ready + 5_000, cutoverMs: 1_000 },
  };
  const step = advanceDeployment(given);
  if (deployment.state === 'queued' && step.state === 'preparing')
    await setReplaces(db, deployment.id, environment.serving_id);
  for (const effect of step.effects) await apply(scene, effect);
  if (step.state !== deployment.state || step.failure !== deployment.failure) {
    await setDeploymentState(db, deployment.id, step.state, step.failure);
    const failing = step.failure !== null && deployment.failure === null;
    await recordEvents(db, {
      type: failing ? 'deployment.failing' : 'deployment.state',
      project: deployment.project_id,
      subject: `d${deployment.number}`,
      actor: 'engine',
      data: { state: step.state, environment: scene.place, release: `r${release.number}`, issue: step.failure },
    });
  }
  const over = !deploymentMoving(step.state);
  if (over)
    for (const next of moving.filter((one) => one.number > deployment.number))
      await makeDue(db, 'deployments', next.id);
  if (over && before) await makeDue(db, 'deployments', before.deployment.id);
  if (over) await makeDue(db, 'environments', environment.id);
  // After an effect the facts are others; what did not become live is cooled down, what did is kept live from now on.
  const soon = over || step.effects.length > 0;
  await setDue(
    db,
    'deployments',
    deployment.id,
    soon ? 0 : step.again === null ? null : Math.max(0, step.again - given.now),
  );
}

async function apply(scene: Scene, effect: DeploymentEffect): Promise<void> {
  const { db, context, environment, deployment, release, before } = scene;
  const target = (which: 'this' | 'before') => (which === 'this' || !before ? scene : before);
  switch (effect.do) {
    case 'prepare':
    case 'verify': {
      const number = (await attemptsOfDeployment(db, deployment.id)).filter((one) => one.kind === effect.do).length + 1;
      const needs = { takes: 'live' as const, base: null };
      return void (await addAttempts(db, [
        {
          kind: effect.do,
          task: null,
          deployment: deployment.id,
          project: deployment.project_id,
          number,
          needs,
          priority: 0,
        },
      ]));
    }
    case 'startServers':
      if (deployment.kind === 'revert' && scene.instances.length === 0 && (await takeWarm(scene))) return;
      return void (await startMissing(scene, 'server', 0));
    case 'serve': {
      const { deployment: row, release: bytes, instances } = target(effect.which);
      return moveTraffic(scene, row, bytes, instances);
    }
    case 'endWorkers':
      await unwant(db, target(effect.of).deployment.id, 'worker');
      return;
    case 'startWorkers':
      await startMissing({ ...scene, ...target(effect.of) }, 'worker', 0);
      return;
    case 'endServers':
      // Ended by `cool`, once no edge has them in its table.
      return;
    case 'goLive': {
      await setLive(db, environment.id, deployment.id);
      await setHealth(db, environment.id, 'good');
      if (before) {
        const state = deployment.kind === 'revert' ? 'reverted' : 'replaced';
        if (before.deployment.state === 'live') {
          // Warm is what the next revert would choose: never what was reverted, and nothing where nobody reverts.
          const warm = state === 'replaced' && environment.kind === 'standing' ? context.timing.warm : 0;
          await retireDeployment(db, before.deployment.id, state, warm);
          await coolOthers(db, environment.id, warmAtMost);
          await recordEvents(db, {
            type: 'deployment.replaced',
            project: deployment.project_id,
            subject: `d${before.deployment.number}`,
            actor: 'engine',
            data: { state, by: `d${deployment.number}`, environment: scene.place },
          });
        } else await makeDue(db, 'deployments', before.deployment.id);
      }
      if (deployment.environment_plan.verify && deployment.kind !== 'revert') {
        await addEvidence(db, release, {
          kind: 'verification',
          name: environment.name,
          source: `d${deployment.number}`,
          detail: { environment: environment.name, deployment: deployment.number },
        });
        await recordEvents(db, {
          type: 'evidence.recorded',
          project: deployment.project_id,
          subject: `r${release.number}`,
          actor: 'engine',
          data: { kind: 'verification', environment: scene.place, digest: release.digest },
        });
      }
      return dueEnvironments(db, deployment.project_id);
    }
    default:
      return effect satisfies never;
  }
}

/** Deployments of one environment that stay warm at a time. */
const warmAtMost = 2;

async function moveTraffic(
  scene: Scene,
  row: DeploymentRow,
  release: ReleaseRow,
  instances: readonly InstanceRow[],
): Promise<void> {
  const { db, environment } = scene;
  const version = await putRoute(
    db,
    environment.host,
    environment.id,
    routeOf(scene.place, row.number, release, instances),
  );
  await setServing(db, environment.id, row.id, version);
  await recordEvents(db, {
    type: 'traffic.moved',
    project: row.project_id,
    subject: scene.place,
    actor: 'engine',
    data: { deployment: `d${row.number}`, release: `r${release.number}`, version },
  });
}

/** A revert takes the servers of the release's last deployment here over while they are warm. */
async function takeWarm(scene: Scene): Promise<boolean> {
  const earlier = await warmDeployment(scene.db, scene.environment.id, scene.release.id, scene.deployment.id);
  // Warm ones were started with the secrets of then: where those are others now, they end.
  const same = JSON.stringify(sortKeys(earlier?.secrets)) === JSON.stringify(sortKeys(scene.deployment.secrets));
  return earlier !== null && same && (await adoptWarm(scene.db, earlier.id, scene.deployment.id)) > 0;
}

async function startMissing(
  scene: Pick<Scene, 'db' | 'deployment' | 'release' | 'instances'>,
  kind: 'server' | 'worker',
  delayMs: number,
  restarts = 0,
): Promise<number> {
  let started = 0;
  for (const part of partsOf(scene.release, kind)) {
    const running = scene.instances.filter((row) => row.part === part.name && row.wanted && !ended(row));
    const taken = new Set(running.map((row) => row.position));
    for (let position = 1; position <= part.instances; position++) {
      if (taken.has(position)) continue;
      await addInstance(scene.db, {
        deployment: scene.deployment.id,
        part: part.name,
        kind,
        position,
        restarts,
        delayMs,
      });
      started++;
    }
  }
  if (started)
    await recordEvents(scene.db, {
      type: 'instance.asked',
      project: scene.deployment.project_id,
      subject: `d${scene.deployment.number}`,
      actor: 'engine',
      data: { kind, count: started },
    });
  return started;
}

/** What is live stays as it was asked for: instances that ended by themselves start again, the table follows, the health is said. */
async function keepLive(scene: Scene): Promise<void> {
  const { db, environment, deployment, release, instances } = scene;
  const moving = (await movingDeployments(db, environment.id)).some(
    (one) => one.state === 'cutover' || one.state === 'verifying',
  );
  await replace(scene, replaceEnded(kept(instances), { moving }));
  const now = await instancesOf(db, deployment.id);
  if (!moving && environment.serving_id === deployment.id) {
    const before = await routeBody(db, environment.host);
    const body = routeOf(scene.place, deployment.number, release, now);
    // A table without any server helps nobody: the last one stays until there is another.
    const empty = body.paths.some((path) => path.kind === 'server' && path.instances.length === 0);
    if (!empty && JSON.stringify(sortKeys(body)) !== JSON.stringify(sortKeys(before)))
      await moveTraffic(scene, deployment, release, now);
  }
  const servers = facts(now, 'server');
  const health = healthOf(
    asked(release, 'server') + asked(release, 'worker'),
    facts(now, 'server').concat(facts(now, 'worker')),
    {
      asked: asked(release, 'server'),
      ready: servers.filter((one) => one.wanted && one.state === 'ready').length,
    },
  );
  if (health !== environment.health && environment.serving_id === deployment.id) {
    await setHealth(db, environment.id, health);
    await recordEvents(db, {
      type: 'environment.health',
      project: deployment.project_id,
      subject: scene.place,
      actor: 'engine',
      data: { health },
    });
  }
  await setDue(db, 'deployments', deployment.id, null);
}

const sortKeys = (value: unknown): unknown =>
  Array.isArray(value)
    ? value.map(sortKeys)
    : value && typeof value === 'object'
      ? Object.fromEntries(
          Object.entries(value)
            .sort(([a], [b]) => (a < b ? -1 : 1))
            .map(([key, one]) => [key, sortKeys(one)]),
        )
      : value;

/** A deployment that is no longer live: workers end at once, servers when they have been warm and no edge has them in its table. */
async function cool(scene: Scene): Promise<void> {
  const { db, environment, deployment, instances } = scene;
  const moving = await movingDeployments(db, environment.id);
  const { effects, health, againMs } = coolDeployment({
    serving: environment.serving_id === deployment.id,
    needed: moving.some((one) => one.replaces_id === deployment.id),
    running: instances.some((row) => row.wanted && !ended(row)),
    serversAsked: asked(scene.release, 'server'),
    serversUp: instances.filter((row) => row.kind === 'server' && !ended(row)).length,
    warmMs: deployment.warm_until ? deployment.warm_until.getTime() - scene.context.now() : 0,
    acknowledged: (await listEdges(db)).every(
      (edge) => hasTable(edge, environment.host, environment.table_version).has,
    ),
  });
  if (health) await setHealth(db, environment.id, health);
  if (effects.includes('endWorkers')) await unwant(db, deployment.id, 'worker');
  const count = effects.includes('endServers') ? await unwant(db, deployment.id, 'server') : 0;
  if (count)
    await recordEvents(db, {
      type: 'deployment.ended-old',
      project: deployment.project_id,
      subject: `d${deployment.number}`,
      actor: 'engine',
      data: { environment: scene.place },
    });
  await setDue(db, 'deployments', deployment.id, againMs);
}
