/** Asks that releases of several projects go to an environment of one name, all at one moment or none of them. */
import { CodedError, issue } from '../../core/errors/errors.js';
import { movingDeployments } from '../../records/deployments/deployments.js';
import { findEnvironment, lockEnvironments } from '../../records/deployments/environments.js';
import { addJoint, askBack, findJoint, type JointRow, lockJoint } from '../../records/deployments/joints.js';
import type { JointMemberRow } from '../../records/models/deployments/joints.js';
import { recordEvents } from '../../records/events.js';
import { projectById, type ProjectRow } from '../../records/projects/projects.js';
import { releaseById } from '../../records/deployments/releases.js';
import type { Context, Db } from '../context.js';
import { placeOf } from '../deployments/acts.js';
import { promote } from '../promotion/promotions.js';

export interface TogetherAsk {
  /** The name that the environment has in each of them. */
  environment: string;
  /** `release`: null is what the environment before has verified. */
  members: { project: ProjectRow; release: number | null }[];
  actor: string;
}

export const mostTogether = 10;

/** Every one of them must be allowed now, with nothing else on its way there; one refusal and none is asked for. */
export async function promoteTogether(
  context: Context,
  db: Db,
  { environment: name, members, actor }: TogetherAsk,
): Promise<JointRow> {
  const different = new Set(members.map(({ project }) => project.id)).size;
  if (different !== members.length || different < 2 || different > mostTogether)
    throw new CodedError('together_few', { count: different });
  // By their ids, which keeps one order of locks.
  const sorted = [...members].sort((a, b) => (a.project.id < b.project.id ? -1 : 1));
  await lockEnvironments(
    db,
    sorted.map(({ project }) => project.id),
    name,
  );
  const rows: JointMemberRow[] = [];
  for (const { project, release } of sorted) {
    const environment = await findEnvironment(db, project.id, name);
    if (environment && (await movingDeployments(db, environment.id)).length)
      throw new CodedError('together_busy', { environment: placeOf(project, environment) });
    const deployment = await promote(context, db, project, name, release, { actor });
    rows.push({
      project: project.name,
      projectId: project.id,
      environmentId: deployment.environment_id,
      release: (await releaseById(db, deployment.release_id)).number,
      deployment: deployment.number,
      deploymentId: deployment.id,
    });
  }
  // In the order in which they were named.
  const named = members.flatMap(({ project }) => rows.filter((row) => row.projectId === project.id));
  const joint = await addJoint(db, { environment: name, actor, members: named });
  await tellTogether(db, joint, 'together.asked', actor, {});
  return joint;
}

/** Takes all of them back: those on their way end, those that are live return to what was before. */
export async function takeTogetherBack(db: Db, number: number, actor: string): Promise<JointRow> {
  const found = await findJoint(db, number);
  if (!found)
    throw new CodedError('not_found', {
      what: `The promotion j${number}`,
      hint: '`tsunagi promote` with --together says its number.',
    });
  const joint = (await lockJoint(db, found.id)) as JointRow;
  if (joint.state === 'ended' || joint.state === 'returned')
    throw new CodedError('together_over', { number, state: joint.state });
  await askBack(db, joint.id, issue('together_back', { who: actor }), actor);
  return (await findJoint(db, number)) as JointRow;
}

/** Each of the projects hears of it. */
export async function tellTogether(
  db: Db,
  { number, environment, members }: JointRow,
  type: 'together.asked' | 'together.moved' | 'together.live' | 'together.ended' | 'together.returned',
  actor: string,
  data: Record<string, unknown>,
): Promise<void> {
  const all = members.map(({ project, release, deployment }) => `${project} r${release} (d${deployment})`);
  for (const { project, projectId, deployment } of members) {
    if (!(await projectById(db, projectId).catch(() => null))) continue;
    await recordEvents(db, {
      type,
      project: projectId,
      subject: `d${deployment}`,
      actor,
      data: { joint: `j${number}`, environment: `${project}/${environment}`, with: all, ...data },
    });
  }
}
