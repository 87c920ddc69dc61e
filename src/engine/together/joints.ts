/** Deployments that go together: each step locks all of their environments and is one transaction. */
import { advanceJoint, type JointMember } from '../../core/cutover/joint.js';
import { CodedError, issue, type Issue, wording } from '../../core/errors/errors.js';
import { deploymentMoving, jointMoving } from '../../core/states.js';
import {
  type DeploymentRow,
  deploymentById,
  lockDeployments,
  setFailure,
} from '../../records/deployments/deployments.js';
import { environmentById, lockEnvironments } from '../../records/deployments/environments.js';
import { jointById, type JointRow, lockJoint, setJointState } from '../../records/deployments/joints.js';
import { type Due, makeDue, settleDue } from '../../records/runs/runs.js';
import type { Context, Db } from '../context.js';
import { apply } from '../deployments/apply.js';
import { advance, beginAtOnce, goesOn, startAgain } from '../deployments/deployments.js';
import { deploymentFacts, readFor, serves } from '../deployments/facts.js';
import { revert } from '../deployments/reverts.js';
import { enter, type Scene } from '../deployments/scene.js';
import { tellTogether } from './ask.js';

export async function stepJoint(context: Context, due: Due): Promise<void> {
  const found = await jointById(context.records, due.id);
  if (!found) return;
  await context.records.transition(`joint.${found.state}`, async (db) => {
    const scenes = await enterAll(context, db, found);
    const joint = (await lockJoint(db, found.id)) as JointRow;
    const members: JointMember[] = [];
    for (const [at, scene] of scenes.entries()) members.push(await memberOf(joint, at, scene));
    const step = advanceJoint({
      now: context.now(),
      state: joint.state,
      since: joint.created_at.getTime(),
      members,
      back: joint.back,
      gatherMs: context.timing.gather,
    });
    const there = scenes.filter((scene) => scene !== null);
    const actor = joint.back_by ?? 'engine';
    if (step.effect === 'move' || step.effect === 'go live') for (const scene of there) await goes(scene, step.effect);
    if (step.effect === 'end') await endAll(there, joint, step.why as Issue);
    const stayed = step.effect === 'return' ? await returnAll(context, db, there, step.why as Issue, actor) : [];
    if (step.state !== joint.state) {
      await setJointState(db, joint.id, { state: step.state, why: step.why, stayed });
      if (step.state !== 'gathering')
        await tellTogether(db, joint, `together.${step.state}`, actor, {
          ...(step.why ? { issue: step.why } : {}),
          ...(stayed.length ? { stayed } : {}),
        });
    }
    // One that is not ready though it has come so far may have lost what edges were told of it. One that is ready would come at once.
    if (step.effect === null && jointMoving(step.state))
      for (const [at, scene] of scenes.entries())
        if (scene?.deployment.state === 'cutover' && !members[at]?.ready)
          await makeDue(db, 'deployments', scene.deployment.id);
    await settleDue(db, 'joints', due, step.againMs);
  });
}

/** In the order of its members; null: it is not there any more. All locks in the order that everyone keeps. */
async function enterAll(context: Context, db: Db, { members, environment }: JointRow): Promise<(Scene | null)[]> {
  await lockEnvironments(
    db,
    members.map((one) => one.projectId),
    environment,
  );
  const rows: (DeploymentRow | null)[] = [];
  for (const { deploymentId } of members) rows.push(await deploymentById(db, deploymentId));
  const beside: string[] = [];
  for (const row of rows) {
    if (!row) continue;
    const other = row.replaces_id ?? (await environmentById(db, row.environment_id)).serving_id;
    beside.push(row.id, ...(other === null ? [] : [other]));
  }
  await lockDeployments(db, beside);
  const scenes: (Scene | null)[] = [];
  for (const row of rows) scenes.push(row && (await enter(context, db, row)));
  return scenes;
}

async function memberOf(
  { members, environment, state }: JointRow,
  at: number,
  scene: Scene | null,
): Promise<JointMember> {
  const place = `${members[at]?.project}/${environment}`;
  if (!scene) return { place, state: null, failure: null, ready: false };
  const { deployment } = scene;
  const open = jointMoving(state) && deploymentMoving(deployment.state);
  if (open) await startAgain(scene);
  const given = open ? await deploymentFacts(scene, false, await readFor(scene)) : null;
  // One that its environment has closed meanwhile has not heard of it yet.
  return {
    place,
    state: deployment.state,
    failure: given?.failure ?? deployment.failure,
    ready: given !== null && goesOn(given),
  };
}

/** What it was ready for a moment ago, in this transaction, it does; else none of them does. */
async function goes(scene: Scene, what: 'move' | 'go live'): Promise<void> {
  const { state, effects } = await advance(scene, { goes: true });
  if (what === 'move' ? effects.some((one) => one.do === 'serve') : state === 'live') return;
  throw new Error(`d${scene.deployment.number} of ${scene.place} did not ${what}`);
}

/** None goes: each brings back what was there by its own steps, the traffic of all of them at once. */
async function endAll(scenes: readonly Scene[], { number }: JointRow, why: Issue): Promise<void> {
  for (const scene of scenes) {
    const { db, deployment, environment, before } = scene;
    if (!deploymentMoving(deployment.state)) continue;
    if (!deployment.failure)
      await setFailure(db, deployment.id, issue('together_ended', { number, why: wording(why).says }));
    if (environment.serving_id === deployment.id && before && serves(before.deployment.state))
      await apply(scene, { do: 'serve', which: 'before' }, await readFor(scene), { changed: false, led: false });
    await makeDue(db, 'deployments', deployment.id);
  }
}

/** Gives the projects that have nothing to go back to, or have gone on since. */
async function returnAll(
  context: Context,
  db: Db,
  scenes: readonly Scene[],
  why: Issue,
  actor: string,
): Promise<string[]> {
  const stayed: string[] = [];
  for (const { environment, deployment, project } of scenes) {
    if (environment.live_id !== deployment.id) {
      stayed.push(project.name);
      continue;
    }
    try {
      // Named by the deployment that it leaves: one that has another deployment on its way goes back like the others.
      const asked = { leaves: deployment.number, release: null, actor, why: wording(why).says };
      const { deployment: back, made } = await revert(context, db, project, environment.name, asked);
      if (made) await beginAtOnce(context, db, back, made);
    } catch (error) {
      if (!(error instanceof CodedError)) throw error;
      stayed.push(project.name);
    }
  }
  return stayed;
}
