/** What goes together, as the API gives it. */
import { deploymentById, revertFrom } from '../../records/deployments/deployments.js';
import type { JointRow } from '../../records/deployments/joints.js';
import type { Db } from '../../records/database.js';
import type { Together } from '../../wire/environments/together.js';
import { said } from './basics.js';

export async function togetherView(db: Db, row: JointRow): Promise<Together> {
  const members: Together['members'] = [];
  for (const { project, release, deployment, deploymentId } of row.members) {
    const found = await deploymentById(db, deploymentId);
    const back = row.state === 'returned' && !row.stayed.includes(project);
    const revert = back ? await revertFrom(db, deploymentId) : null;
    members.push({
      project,
      release,
      deployment,
      state: found?.state ?? null,
      failure: said(found?.failure ?? null),
      revert: revert && { deployment: revert.number, state: revert.state },
    });
  }
  const why = said(row.issue);
  return {
    number: row.number,
    environment: row.environment,
    actor: row.actor,
    state: row.state,
    sentence: sentenceOf(row, members, why?.says ?? ''),
    back: said(row.back),
    issue: why,
    createdAt: row.created_at.toISOString(),
    stateSince: row.state_since.toISOString(),
    members,
  };
}

const list = (all: readonly string[]) =>
  all.length < 2 ? (all[0] ?? '') : `${all.slice(0, -1).join(', ')} and ${all.at(-1)}`;

function sentenceOf({ state, back, stayed }: JointRow, members: Together['members'], why: string): string {
  const names = list(members.map(({ project }) => project));
  if (back !== null && state !== 'ended' && state !== 'returned') return `${names} go back.`;
  switch (state) {
    case 'gathering': {
      const late = members.filter((one) => one.state !== 'cutover').map(({ project }) => project);
      return late.length
        ? `Their traffic moves when all are ready beside what is live; ${list(late)} ${late.length === 1 ? 'is' : 'are'} not yet.`
        : 'All stand ready beside what is live; every edge is told what comes next.';
    }
    case 'moved':
      return 'The traffic of all has moved; they are live when each is verified.';
    case 'live':
      return `${names} went live together.`;
    case 'ended':
      return `None of ${names} went. ${why}`;
    case 'returned': {
      const went = members.map(({ project }) => project).filter((name) => !stayed.includes(name));
      const rest = stayed.length ? ` ${list(stayed)} stayed: gone on since, or with nothing to go back to.` : '';
      return `${went.length ? `${list(went)} went back.` : 'None went back.'} ${why}${rest}`;
    }
    default:
      return state satisfies never;
  }
}
