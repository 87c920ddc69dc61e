/** Reviews are opened: for pull requests, and by hand for branches; and close with them. */
import { hasReview, type Pull } from '../../core/advance/pulls.js';
import { reviewLabel } from '../../core/addresses.js';
import type { EnvironmentPlan } from '../../core/definition/model.js';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';
import {
  branchReview,
  closeEnvironments,
  type EnvironmentRow,
  findEnvironment,
  holdReleases,
  makeEnvironment,
  type NewEnvironment,
  openReviews,
} from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { mainDefinition, type ProjectRow } from '../../records/projects/projects.js';
import { authorOf, branchHead } from '../../records/projects/sources.js';
import { makeDue } from '../../records/runs/runs.js';
import { type Context, type Db, domainOf } from '../context.js';

/** Reviews of a project that are open at a time, and of them those of one author. */
const mostReviews = 200;
const mostOfAuthor = 50;

async function reviewPlan(db: Db, project: ProjectRow): Promise<EnvironmentPlan | null> {
  const plans = (await mainDefinition(db, project.id))?.model.environments ?? {};
  return Object.values(plans).find((one) => one.for !== null) ?? null;
}

/** Why no other review may be opened there, or null. */
async function tooMany(db: Db, project: ProjectRow, name: string, author: string | null): Promise<Issue | null> {
  const open = await openReviews(db, project.id);
  if (open.some((one) => one.name === name)) return null;
  if (open.length >= mostReviews) return issue('reviews_many', { project: project.name, count: open.length });
  const own = author === null ? 0 : open.filter((one) => one.author === author).length;
  return own < mostOfAuthor
    ? null
    : issue('reviews_of_author', { project: project.name, count: own, author: author?.slice(0, 80) ?? '' });
}

const makeReview = (
  { addresses }: Context,
  db: Db,
  project: ProjectRow,
  of: Pick<NewEnvironment, 'name' | 'plan' | 'pullRequest' | 'branch' | 'again' | 'outside'>,
  actor: string,
): Promise<void> =>
  makeEnvironment(
    db,
    {
      project: project.id,
      projectName: project.name,
      kind: 'review',
      domain: domainOf(addresses, of.outside ? 'untrusted' : 'review'),
      ...of,
    },
    actor,
  );

/**
 * The review of a pull request, where it has one. `again` false: one that has closed stays so; `allowed`: somebody has allowed a
 * commit of it, whoever has written that.
 */
export async function openReviewFor(
  context: Context,
  db: Db,
  project: ProjectRow,
  pull: Pick<Pull, 'number' | 'trusted' | 'draft'>,
  actor: string,
  { again = true, allowed = false }: { again?: boolean; allowed?: boolean } = {},
): Promise<void> {
  const plan = await reviewPlan(db, project);
  if (!plan || !hasReview(plan, pull, allowed)) return;
  const name = `pr-${pull.number}`;
  const why = await tooMany(db, project, name, await authorOf(db, project.id, pull.number));
  if (why)
    return recordEvents(db, {
      type: 'review.refused',
      project: project.id,
      subject: `${project.name}/${name}`,
      actor,
      data: { issue: why },
    });
  const of = {
    name,
    plan: plan.name,
    pullRequest: pull.number,
    outside: !pull.trusted,
    ...(again ? {} : { again: false as const }),
  };
  await makeReview(context, db, project, of, actor);
}

/** Names tried for a review of a branch: as many branches would have to be spelt alike. */
const mostNames = 50;

/** A review of a branch, which takes its releases. One that is open stays as it is. */
export async function openBranchReview(
  context: Context,
  db: Db,
  project: ProjectRow,
  branch: string,
  actor: string,
): Promise<EnvironmentRow> {
  await holdReleases(db, project.id, 'alone');
  const plan = await reviewPlan(db, project);
  if (!plan) throw new CodedError('review_undeclared', { project: project.name });
  if ((await branchHead(db, project.id, branch)) === null)
    throw new CodedError('branch_absent', { branch: branch.slice(0, 100), project: project.name });
  const known = await branchReview(db, project.id, branch);
  const name = known?.name ?? (await freeName(db, project, branch));
  const why = await tooMany(db, project, name, null);
  if (why) throw new CodedError('reviews_many', why.data);
  await makeReview(context, db, project, { name, plan: plan.name, pullRequest: null, branch }, actor);
  const row = await findEnvironment(db, project.id, name);
  if (!row || row.branch !== branch) throw new CodedError('name_taken', { what: 'environment', name });
  return row;
}

async function freeName(db: Db, project: ProjectRow, branch: string): Promise<string> {
  for (let attempt = 1; attempt <= mostNames; attempt++) {
    const name = reviewLabel(branch, attempt);
    if (!(await findEnvironment(db, project.id, name))) return name;
  }
  throw new CodedError('name_taken', { what: 'environment', name: reviewLabel(branch, 1) });
}

/** Those of a pull request or a branch that is gone close. */
export async function closeReviews(
  db: Db,
  project: ProjectRow,
  such: { pull_request: number } | { branch: string },
  actor: string,
): Promise<void> {
  for (const { id, name } of await closeEnvironments(db, project.id, such)) {
    await makeDue(db, 'environments', id);
    await recordEvents(db, {
      type: 'environment.closing',
      project: project.id,
      subject: `${project.name}/${name}`,
      actor,
    });
  }
}

/** Whose author may write by now, or no more, begins anew: with other rights, other data, another address. */
export async function parted(
  db: Db,
  project: ProjectRow,
  pull: Pick<Pull, 'number' | 'trusted'>,
  actor: string,
): Promise<void> {
  const known = await findEnvironment(db, project.id, `pr-${pull.number}`);
  if (!known || known.pull_request !== pull.number || known.state === 'closed' || known.outside !== pull.trusted)
    return;
  await closeReviews(db, project, { pull_request: pull.number }, actor);
}
