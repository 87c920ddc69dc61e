/** Everything about one deployment, read under its locks, and the facts that core asks for. */
import { type ProjectRow, projectById } from '../../records/projects/projects.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import { type InstanceRow, addInstance, instancesOf, unwantOne } from '../../records/deployments/instances.js';
import { type EnvironmentRow, lockEnvironment } from '../../records/deployments/environments.js';
import {
  type DeploymentRow,
  lockDeployment,
  lockDeployments,
  type WarmRow,
} from '../../records/deployments/deployments.js';
import type { Db } from '../../records/database.js';
import type { Context } from '../context.js';
import type { InstanceFact } from '../../core/advance/deployments.js';
import { reckonedMemory, sizeOf } from '../../core/scale/sizes.js';
import type { WishedPart } from '../../core/advance/fresh.js';
import type { KeptInstance, Replaced } from '../../core/advance/keep.js';

/** Everything about one deployment, locked: the environment first, then the deployment. */
export interface Scene {
  db: Db;
  context: Context;
  environment: EnvironmentRow;
  deployment: DeploymentRow;
  release: ReleaseRow;
  instances: InstanceRow[];
  before: { deployment: DeploymentRow; release: ReleaseRow; instances: InstanceRow[] } | null;
  project: ProjectRow;
  /** `sailings/staging`. */
  place: string;
  /** What is warm of its release, where that was looked up in this transaction. */
  warm?: WarmRow | null;
}

/** What the transaction that has just made a deployment knows of it: the environment as it is now, locked. */
export interface Made {
  project: ProjectRow;
  environment: EnvironmentRow;
  release: ReleaseRow;
  /** Others that are on their way there, the oldest first; left out: nobody has looked. */
  moving?: DeploymentRow[];
  /** What is warm of the release there; left out: nobody has looked. */
  warm?: WarmRow | null;
  /** Releases by id, as they were read for it. */
  releases?: ReadonlyMap<string, ReleaseRow>;
}

/** `made`: it was made in this transaction, and nothing of it is there yet. */
export async function enter(context: Context, db: Db, found: DeploymentRow, made?: Made): Promise<Scene> {
  const environment = made?.environment ?? (await lockEnvironment(db, found.environment_id));
  const other = found.replaces_id ?? environment.serving_id;
  const locked = await lockDeployments(db, other === null ? [found.id] : [found.id, other]);
  const deployment = locked.find((row) => row.id === found.id) as DeploymentRow;
  const project = made?.project ?? (await projectById(db, deployment.project_id));
  const load = async (row: DeploymentRow) => ({
    deployment: row,
    release: made?.releases?.get(row.release_id) ?? (await releaseById(db, row.release_id)),
    instances: await instancesOf(db, row.id),
  });
  const own = made ? { deployment, release: made.release, instances: [] } : await load(deployment);
  const beforeId = deployment.state === 'queued' ? environment.serving_id : deployment.replaces_id;
  const beforeRow =
    beforeId && beforeId !== deployment.id
      ? (locked.find((row) => row.id === beforeId) ?? (await lockDeployment(db, beforeId)))
      : null;
  return {
    db,
    context,
    environment,
    ...own,
    before: beforeRow ? await load(beforeRow) : null,
    project,
    place: `${project.name}/${environment.name}`,
    ...(made?.warm === undefined ? {} : { warm: made.warm }),
  };
}

/** Names of the parts that are programs. */
export const programsOf = (release: ReleaseRow): string[] =>
  Object.values(release.plan.parts).flatMap((part) => (part.kind === 'site' || part.kind === 'job' ? [] : [part.name]));
type Sized = Pick<Scene, 'deployment' | 'release'> & { environment: Pick<EnvironmentRow, 'sizes' | 'outside'> };

/** What is wished of each part that is a program: how many, how large, and how fresh. */
export const wishes = ({
  deployment,
  release,
  environment,
}: {
  deployment: Pick<DeploymentRow, 'environment_plan' | 'fresh'>;
  release: Pick<ReleaseRow, 'plan'>;
  environment: Pick<EnvironmentRow, 'sizes' | 'outside'>;
}): (WishedPart & { memory: number })[] =>
  Object.values(release.plan.parts).flatMap((part) => {
    if (part.kind === 'site' || part.kind === 'job') return [];
    const { instances, memory } = sizeOf(part, deployment.environment_plan, environment.sizes, environment.outside);
    return [
      {
        name: part.name,
        kind: part.kind,
        count: instances,
        fresh: deployment.fresh[part.name] ?? 0,
        memory: memory ?? reckonedMemory,
      },
    ];
  });

/** How many of a kind are wished. */
export const asked = (sized: Sized, kind: 'server' | 'worker') =>
  wishes(sized)
    .filter((one) => one.kind === kind)
    .reduce((sum, { count }) => sum + count, 0);
export const facts = (rows: readonly InstanceRow[], kind: 'server' | 'worker'): InstanceFact[] =>
  rows.filter((row) => row.kind === kind).map(({ id, state, wanted }) => ({ id, state, wanted }));

export const kept = (rows: readonly InstanceRow[]): KeptInstance[] =>
  rows.map((row) => ({
    id: row.id,
    part: row.part,
    kind: row.kind,
    position: row.position,
    state: row.state,
    wanted: row.wanted,
    restarts: row.restarts,
    livedMs: row.ended_at && row.ready_at ? row.ended_at.getTime() - row.ready_at.getTime() : 0,
    fresh: row.fresh,
    letDown: row.state === 'lost' || (row.state === 'failed' && row.issue?.code === 'lease_over'),
  }));

export async function replace(scene: Scene, { giveUp, start }: Replaced): Promise<void> {
  for (const id of giveUp) await unwantOne(scene.db, id);
  for (const one of start) await startOne(scene, one);
}

/** One more instance in a place. */
export async function startOne(
  { db, ...sized }: Pick<Scene, 'db'> & Sized,
  one: { part: string; kind: 'server' | 'worker'; position: number; restarts?: number; delayMs?: number },
): Promise<void> {
  const memory = wishes(sized).find((wish) => wish.name === one.part)?.memory ?? reckonedMemory;
  await addInstance(db, { deployment: sized.deployment.id, restarts: 0, delayMs: 0, ...one, memory });
}
