/** Deployments on their way, and what is live: facts from the records, a step from core, its effects in the same transaction. */
import { makeDue, setDue, takeDue } from '../../records/runs/runs.js';
import { instancesOf } from '../../records/deployments/instances.js';
import { instanceOver, replaceLetDown } from '../../core/advance/keep.js';
import { hasTable, listEdges, routeBody } from '../../records/callers/edges.js';
import { runningJobs } from '../../records/jobs/jobs.js';
import type { Route } from '../../core/cutover/route.js';
import { deploymentMoving } from '../../core/states.js';
import { cool, keepLive } from './kept.js';
import { stepLife } from '../environments/life.js';
import { dataIsNew, environmentById } from '../../records/deployments/environments.js';
import { resourceFacts } from './needs.js';
import { noRoomFor } from './placement.js';
import { holdFor } from './reverts.js';
import { forbidden } from './rules.js';
import { isShared, wayOf } from './shares.js';
import { attemptsOfDeployment } from '../../records/runs/attempts.js';
import { apply } from './apply.js';
import { type Scene, asked, enter, facts, kept, replace } from './scene.js';
import { type Issue, issue, registry, wording } from '../../core/errors/errors.js';
import {
  type DeploymentRow,
  deploymentById,
  movingDeployments,
  setDeploymentState,
  setReplaces,
} from '../../records/deployments/deployments.js';
import {
  type DeploymentEffect,
  type DeploymentFacts,
  type StepFact,
  advanceDeployment,
} from '../../core/advance/deployments.js';
import type { Context, Db } from '../context.js';
import { recordEvents } from '../../records/events.js';

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

/** The first steps of one that was asked for in this transaction, with its environment locked: nobody else need come for it. */
export async function beginAtOnce(context: Context, db: Db, asked: DeploymentRow): Promise<DeploymentRow> {
  // What moves already has its own steps, which lock more.
  if (asked.state !== 'queued') return asked;
  await advance(await enter(context, db, asked));
  return (await deploymentById(db, asked.id)) ?? asked;
}

/** Effects that are whole when they are done: what they have changed is seen in the same transaction. */
const wholeAtOnce: readonly DeploymentEffect['do'][] = ['resources', 'prepare', 'seed', 'seeded', 'startServers'];

/** Steps that one transaction takes at most: it holds its environment meanwhile. */
const mostSteps = 8;

/** Milliseconds after which a deployment looks again though nobody has answered yet. */
const answerMs = 500;

/** States in which a deployment may have the traffic for good. */
const serves = (state: DeploymentRow['state']): boolean => state === 'live' || state === 'failed';

/** An agent that went away, or lost touch for longer than a lease, says nothing of the release. */
async function startAgain(scene: Scene): Promise<void> {
  const { db, deployment, environment } = scene;
  const again = replaceLetDown(kept(scene.instances));
  if (deployment.failure || environment.state === 'closing' || again.giveUp.length === 0) return;
  await replace(scene, again);
  scene.instances = await instancesOf(db, deployment.id);
}

async function advance(scene: Scene, steps = 1): Promise<void> {
  await startAgain(scene);
  const { db, context, deployment, environment, before, release } = scene;
  const [attempts, moving, edges] = [
    await attemptsOfDeployment(db, deployment.id),
    await movingDeployments(db, environment.id),
    await listEdges(db),
  ];
  const stepFact = (kind: 'prepare' | 'seed' | 'verify', declared: boolean): StepFact => {
    const last = attempts.filter((one) => one.kind === kind).at(-1);
    return { declared, attempt: last?.state ?? null, why: last?.issue ? wording(last.issue).says : '' };
  };
  const broken = scene.instances.find((row) => row.wanted && instanceOver(row));
  const tables = edges
    .filter((edge) => edge.alive)
    .map((edge) => ({ edge: edge.name, ...hasTable(edge, environment.host, environment.table_version) }));
  const refusing = tables.find((one) => one.why !== null && !registry[one.why.code]?.retry);
  const route = (await routeBody(db, environment.host)) as Route | null;
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
    // What sleeps is woken first, so that there is something to go back to; what can't be is what this one mends.
    blocked:
      moving.some((one) => one.number < deployment.number) ||
      environment.state === 'falling asleep' ||
      environment.state === 'waking' ||
      (environment.state === 'asleep' && environment.wake_issue === null),
    overtaken:
      deployment.kind === 'automatic' && moving.some((one) => one.number > deployment.number && one.state === 'queued'),
    resources: await resourceFacts(scene, attempts),
    prepare: {
      ...stepFact('prepare', release.plan.prepare !== null),
      mayRepeat: release.plan.prepare?.again === true,
      tries: attempts.filter((one) => one.kind === 'prepare').length,
      stops: release.plan.prepare?.stops === true,
    },
    seed: {
      ...stepFact('seed', deployment.environment_plan.seed !== undefined),
      fresh: await dataIsNew(db, environment.id),
    },
    closed: route?.closed === true,
    way: deployment.state === 'cutover' ? await wayOf(scene, route) : null,
    shared: isShared(route, deployment),
    verify: stepFact('verify', deployment.environment_plan.verify !== null),
    serversAsked: asked(scene, 'server'),
    workersAsked: asked(scene, 'worker'),
    servers: facts(scene.instances, 'server'),
    workers: facts(scene.instances, 'worker'),
    noRoom: await noRoomFor(db, scene.instances),
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
        ? {
            workersAsked: asked({ ...before, environment }, 'worker'),
            workers: facts(before.instances, 'worker'),
            servers: facts(before.instances, 'server'),
            jobs: await runningJobs(db, environment.id),
          }
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
    forbidden:
      deployment.state === 'cutover' && environment.serving_id !== deployment.id ? await forbidden(scene) : null,
    limits: { readyMs: context.timing.ready + 5_000, cutoverMs: 1_000 },
  };
  const step = advanceDeployment(given);
  if (deployment.state === 'queued' && step.state === 'preparing')
    await setReplaces(db, deployment.id, environment.serving_id);
  const since = step.state === deployment.state ? deployment.state_since : new Date(given.now);
  let answered = step.effects.length > 0;
  for (const effect of step.effects) answered = (await apply(scene, effect)) && answered;
  if (step.state !== deployment.state || step.failure !== deployment.failure) {
    await setDeploymentState(db, deployment.id, step.state, step.failure);
    const failing = step.failure !== null && deployment.failure === null;
    // The next push must not bring back what has just been taken back.
    if (failing && step.failure?.code === 'cutover_worse')
      await holdFor(db, scene.project, environment, 'engine', wording(step.failure).says);
    await recordEvents(db, {
      type: failing ? 'deployment.failing' : 'deployment.state',
      project: deployment.project_id,
      subject: `d${deployment.number}`,
      actor: 'engine',
      data: { state: step.state, environment: scene.place, release: `r${release.number}`, issue: step.failure },
    });
  }
  // Where nothing is to be done for the state that it is in now, the next step follows in the same transaction.
  if (
    step.state !== deployment.state &&
    step.effects.length === 0 &&
    step.failure === null &&
    deploymentMoving(step.state)
  ) {
    const next = { ...deployment, state: step.state, state_since: since };
    return advance({ ...scene, deployment: next }, steps + 1);
  }
  // The same where what was done is done: servers that were warm take the traffic in the transaction that asks for it.
  const whole = step.effects.length > 0 && step.effects.every((effect) => wholeAtOnce.includes(effect.do));
  if (whole && step.failure === null && deploymentMoving(step.state) && steps < mostSteps)
    return advance(
      {
        ...scene,
        deployment: { ...deployment, state: step.state, state_since: since },
        instances: await instancesOf(db, deployment.id),
      },
      steps + 1,
    );
  const over = !deploymentMoving(step.state);
  if (over)
    for (const next of moving.filter((one) => one.number > deployment.number))
      await makeDue(db, 'deployments', next.id);
  // What failed lets the old programs start again, where they were stopped for it.
  if ((over || step.failure) && before) await makeDue(db, 'deployments', before.deployment.id);
  if (over) {
    await makeDue(db, 'environments', environment.id);
    // It is awake with what it shows now; whoever waits for that need not wait for another step.
    if (step.state === 'live') await stepLife({ context, db, environment: await environmentById(db, environment.id) });
  }
  // After an effect the facts are others, unless it is somebody's answer that makes them so; what did not become live is cooled down,
  // what did is kept live from now on.
  const soon = over ? 0 : answered ? answerMs : step.effects.length > 0 ? 0 : null;
  const again = step.again === null ? null : Math.max(0, step.again - given.now);
  await setDue(db, 'deployments', deployment.id, soon ?? again);
}
