/** What must be there before a deployment's programs start: its resources, and what opens them. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import { randomBytes } from 'node:crypto';
import type { DeploymentFacts } from '../../core/advance/deployments.js';
import { attemptEnded, type ResourcePlace } from '../../core/states.js';
import { issue, wording } from '../../core/errors/errors.js';
import type { AttemptRow } from '../../records/runs/attempts.js';
import { addLogin, loginsOfDeployment } from '../../records/resources/logins.js';
import { askResources, resourcesOf } from '../../records/resources/resources.js';
import { freshenParts } from '../../records/deployments/deployments.js';
import { programsOf, type Scene } from './scene.js';

/** Entropy of a password: 192 bits. */
export const newPassword = (): string => randomBytes(24).toString('base64url');

/** Logins that it needs now: one for its parts, and one for the try of prepare that comes next. */
function wantedLogins({ deployment, release }: Scene, attempts: readonly Pick<AttemptRow, 'kind' | 'state'>[]) {
  const tries = attempts.filter((one) => one.kind === 'prepare');
  const next = tries.every((one) => attemptEnded(one.state)) && tries.at(-1)?.state !== 'passed';
  const prepares = deployment.state === 'preparing' && release.plan.prepare !== null && deployment.kind !== 'revert';
  return [
    { usedBy: 'parts' as const, turn: deployment.turn },
    ...(prepares && next ? [{ usedBy: 'prepare' as const, turn: tries.length + 1 }] : []),
  ];
}

export async function resourceFacts(
  scene: Scene,
  attempts: readonly Pick<AttemptRow, 'kind' | 'state'>[],
): Promise<DeploymentFacts['resources']> {
  const { db, deployment, environment, release } = scene;
  const plans = Object.values(release.plan.resources);
  if (plans.length === 0) return { asked: true, ready: true, failure: null };
  const rows = new Map((await resourcesOf(db, environment.id)).map((row) => [row.name, row]));
  const logins = await loginsOfDeployment(db, deployment.id);
  const wanted = wantedLogins(scene, attempts);
  let [asked, ready] = [true, true];
  for (const { name, kind } of plans) {
    const row = rows.get(name);
    const own = (kind === 'volume' ? [] : wanted).map(({ usedBy, turn }) =>
      logins.find((one) => one.name === name && one.used_by === usedBy && one.turn === turn),
    );
    if (row?.state === 'failed' && row.wanted)
      return {
        asked,
        ready: false,
        failure: issue('resource_failed', {
          name,
          detail: row.issue ? wording(row.issue).says : '',
          environment: scene.place,
        }),
      };
    // One that goes frees its name; then it is asked for anew.
    const goes = row !== undefined && !row.wanted;
    if (!goes && (!row || own.some((one) => !one))) asked = false;
    if (row?.state !== 'ready' || own.some((one) => one?.state !== 'ready')) ready = false;
  }
  return { asked, ready, failure: null };
}

export async function askForResources(scene: Scene, attempts: readonly AttemptRow[]): Promise<void> {
  const { db, context, deployment, environment, release } = scene;
  const plans = Object.values(release.plan.resources);
  if (plans.length === 0) return;
  const place: ResourcePlace =
    environment.kind === 'standing' ? 'standing' : environment.outside ? 'untrusted' : 'review';
  await askResources(db, environment.id, place, plans, deployment.environment_plan.data ?? {});
  for (const row of await resourcesOf(db, environment.id)) {
    if (!row.wanted || row.kind === 'volume' || !Object.hasOwn(release.plan.resources, row.name)) continue;
    for (const { usedBy, turn } of wantedLogins(scene, attempts)) {
      const id = newId();
      await addLogin(db, {
        id,
        resource: row.id,
        deployment: deployment.id,
        usedBy,
        turn,
        person: null,
        sealed: context.keys.encrypt(newPassword(), sealedPlace('logins', id)),
        expires: null,
      });
    }
  }
}

/**
 * After a rotation the programs of what is live are started anew, each with the new logins, as soon as those are there. Gives the
 * deployment as it is then.
 */
export async function takeNewLogins({ db, deployment, release }: Scene): Promise<Scene['deployment']> {
  if (Object.keys(release.plan.resources).length === 0) return deployment;
  const own = (await loginsOfDeployment(db, deployment.id)).filter((one) => one.used_by === 'parts');
  const turn = Math.max(deployment.turn, ...own.map((one) => one.turn));
  if (turn === deployment.turn || own.some((one) => one.turn === turn && one.state !== 'ready')) return deployment;
  return freshenParts(db, deployment, programsOf(release), turn);
}
