/** Deployments on their way, and what is live: facts from the records, a step from core, its effects in the same transaction. */
import { type Due, makeDue, setDue } from '../../records/runs/runs.js';
import { instancesOf } from '../../records/deployments/instances.js';
import { replaceLetDown } from '../../core/advance/keep.js';
import { deploymentMoving } from '../../core/states.js';
import { cool, keepLive } from './kept.js';
import { deploymentFacts, type Read, readFor } from './facts.js';
import { stepLife } from '../environments/life.js';
import { environmentById } from '../../records/deployments/environments.js';
import { holdFor } from './reverts.js';
import { apply, type Owed } from './apply.js';
import { type Made, type Scene, enter, kept, replace } from './scene.js';
import { wording } from '../../core/errors/errors.js';
import { type DeploymentRow, deploymentById, setDeploymentState } from '../../records/deployments/deployments.js';
import {
  type DeploymentEffect,
  type DeploymentFacts,
  type DeploymentStep,
  advanceDeployment,
} from '../../core/advance/deployments.js';
import type { Context, Db } from '../context.js';
import { recordEvents } from '../../records/events.js';

export async function stepDeployment(context: Context, { id }: Due): Promise<void> {
  const found = await deploymentById(context.records, id);
  if (!found) return;
  await context.records.transition(`deployment.${found.state}`, async (db) => {
    const scene = await enter(context, db, found);
    if (deploymentMoving(scene.deployment.state)) await advance(scene);
    else if (scene.environment.live_id === id) await keepLive(scene);
    else await cool(scene);
  });
}

/** The first steps of one that was made in this transaction, with its environment locked: nobody else need come for it. */
export async function beginAtOnce(context: Context, db: Db, asked: DeploymentRow, made: Made): Promise<DeploymentRow> {
  const scene = await enter(context, db, asked, made);
  return (await advance(scene, { known: await readFor(scene, made) })).row;
}

/** Effects that are whole when they are done: what they have changed is seen in the same transaction. */
const wholeAtOnce: readonly DeploymentEffect['do'][] = ['resources', 'prepare', 'seed', 'seeded', 'startServers'];

/** Those of them that leave all that is read once as it was. */
const leavesRead: readonly DeploymentEffect['do'][] = ['resources', 'seeded', 'startServers'];

/** Steps that one transaction takes at most: it holds its environment meanwhile. */
const mostSteps = 8;

/** Milliseconds after which a deployment looks again though nobody has answered yet. */
const answerMs = 500;

/** An agent that went away, or lost touch for longer than a lease, says nothing of the release. */
export async function startAgain(scene: Scene): Promise<void> {
  const { db, deployment, environment } = scene;
  const again = replaceLetDown(kept(scene.instances));
  if (deployment.failure || environment.state === 'closing' || again.giveUp.length === 0) return;
  await replace(scene, again);
  scene.instances = await instancesOf(db, deployment.id);
}

/** Of steps that follow each other in one transaction. */
interface Following {
  /** All of those that it goes with take this step in this transaction. */
  goes?: boolean;
  steps?: number;
  known?: Read | null;
  owed?: Owed;
}

/**
 * Takes the next step, and those that follow in the same transaction. Gives the last of them, and the deployment as it is then: its
 * state is written once, when they are done.
 */
export async function advance(
  scene: Scene,
  { goes = false, steps = 1, known = null, owed = { changed: false, led: false } }: Following = {},
): Promise<DeploymentStep & { row: DeploymentRow }> {
  await startAgain(scene);
  const { db, context, deployment, environment, before, release } = scene;
  const read = known ?? (await readFor(scene));
  const given = await deploymentFacts(scene, goes, read);
  const step = advanceDeployment(given);
  const begins = deployment.state === 'queued' && step.state === 'preparing';
  const since = step.state === deployment.state ? deployment.state_since : new Date(given.now);
  let answered = step.effects.length > 0;
  for (const effect of step.effects) answered = (await apply(scene, effect, read, owed)) && answered;
  if (begins) owed.replaces = environment.serving_id;
  if (step.state !== deployment.state || step.failure !== deployment.failure) {
    owed.changed = true;
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
    return advance({ ...scene, deployment: next }, { goes, steps: steps + 1, known: read, owed });
  }
  // The same where what was done is done: servers that were warm take the traffic in the transaction that asks for it.
  const whole = step.effects.length > 0 && step.effects.every((effect) => wholeAtOnce.includes(effect.do));
  if (whole && step.failure === null && deploymentMoving(step.state) && steps < mostSteps)
    return advance(
      {
        ...scene,
        deployment: { ...deployment, state: step.state, state_since: since },
        instances: step.effects.some((effect) => effect.do === 'startServers')
          ? await instancesOf(db, deployment.id)
          : scene.instances,
      },
      {
        goes,
        steps: steps + 1,
        known: step.effects.every((effect) => leavesRead.includes(effect.do)) ? read : null,
        owed,
      },
    );
  const over = !deploymentMoving(step.state);
  // After an effect the facts are others, unless it is somebody's answer that makes them so; what did not become live is cooled down,
  // what did is kept live from now on.
  const soon = over ? 0 : answered ? answerMs : step.effects.length > 0 ? 0 : null;
  const due = soon ?? (step.again === null ? null : Math.max(0, step.again - given.now));
  const { changed, led: _led, ...more } = owed;
  let row = deployment;
  if (changed || more.seen)
    row = await setDeploymentState(db, deployment.id, step.state, step.failure, { ...more, due });
  else await setDue(db, 'deployments', deployment.id, due);
  if (over)
    for (const next of read.moving.filter((one) => one.number > deployment.number))
      await makeDue(db, 'deployments', next.id);
  // What failed lets the old programs start again, where they were stopped for it.
  if ((over || step.failure) && before) await makeDue(db, 'deployments', before.deployment.id);
  if (over) {
    await makeDue(db, 'environments', environment.id);
    // It is awake with what it shows now; whoever waits for that need not wait for another step.
    if (step.state === 'live') await stepLife({ context, db, environment: await environmentById(db, environment.id) });
  }
  // Those that it goes with wait for it, or hear that none goes.
  if (deployment.joint_id !== null && !goes && (step.failure || over || goesOn(given)))
    await makeDue(db, 'joints', deployment.joint_id);
  return { ...step, row };
}

/** Whether one that waits for others would go at once. */
export function goesOn(given: DeploymentFacts): boolean {
  const { state, effects } = advanceDeployment({ ...given, together: 'goes' });
  return (
    (given.state === 'verifying' && state === 'live') ||
    effects.some((one) => one.do === 'serve' && one.which === 'this')
  );
}
