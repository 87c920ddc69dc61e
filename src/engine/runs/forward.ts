/** A branch from what is live, to mend it without what has come to main since; and what is live and not in main. */
import { CodedError } from '../../core/errors/errors.js';
import { branches, type CommitFacts, commitsBetween, hasCommit, isBefore, isBranchName } from '../../git/repository.js';
import { moveBranch } from '../../git/write.js';
import { findEnvironment } from '../../records/deployments/environments.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { branchHead, intendPush } from '../../records/projects/sources.js';
import { type Context, type Db, ensureRepository, repositoryOf } from '../context.js';
import { liveRelease } from '../deployments/live.js';

export interface FromLive {
  release: ReleaseRow;
  branch: string;
  /** `made`: just now; `there`: it is, with this commit or work on top of it; `elsewhere`: commits come from a host that alone makes branches. */
  how: 'made' | 'there' | 'elsewhere';
}

/** @param branch default: `fix-rN` */
export async function branchFromLive(
  context: Context,
  project: ProjectRow,
  asked: { environment: string; branch: string | null; actor: string },
): Promise<FromLive> {
  const { records } = context;
  const found = await findEnvironment(records, project.id, asked.environment);
  const place = `${project.name}/${asked.environment}`;
  if (!found)
    throw new CodedError('not_found', {
      what: `The environment ${place}`,
      hint: '`tsunagi board` shows what there is.',
    });
  const release = await liveRelease(records, found);
  if (!release) throw new CodedError('nothing_live', { environment: place });
  const branch = asked.branch ?? `fix-r${release.number}`;
  if (!isBranchName(branch) || branch === project.main_branch) throw new CodedError('branch_unfit', { branch });
  const { commit } = release;
  if (project.source !== 'hosted') return { release, branch, how: 'elsewhere' };
  const repository = await ensureRepository(context, project);
  if (!(await hasCommit(repository, commit)))
    throw new CodedError('live_absent', { release: `r${release.number}`, commit: commit.slice(0, 12) });
  const headNow = async () => (await branches(repository)).get(branch) ?? null;
  const before = await headNow();
  if (before === null) {
    await records.transition('push.intended', (db) => intendPush(db, project.id, branch, null, commit, asked.actor));
    if (await moveBranch(repository, branch, commit, null)) return { release, branch, how: 'made' };
  }
  // Somebody was quicker, or it was asked for before.
  const head = before ?? (await headNow());
  if (head === null || !(await isBefore(repository, commit, head)))
    throw new CodedError('branch_elsewhere', { branch, release: `r${release.number}` });
  return { release, branch, how: 'there' };
}

/** Commits that are told of one by one. */
const mostTold = 20;

/** What is not here now may come yet: that nothing was found is not kept then. */
const absent = new Error('the commit is not here');

/** What is live and not in main, the newest first: 20 at most. None where main is not known, or the commit is not here. */
export async function besideMain(
  context: Context,
  db: Db,
  project: Pick<ProjectRow, 'id' | 'main_branch'>,
  commit: string,
): Promise<CommitFacts[]> {
  return commitsBeside(context, project, await branchHead(db, project.id, project.main_branch), commit);
}

/** The same with a known head of main. */
export async function commitsBeside(
  context: Context,
  project: Pick<ProjectRow, 'id'>,
  main: string | null,
  commit: string,
): Promise<CommitFacts[]> {
  if (main === null || main === commit) return [];
  const repository = repositoryOf(context, project);
  try {
    return await context.beside.forceFetch(`${project.id} ${main} ${commit}`, {
      context: async () => {
        const found = await commitsBetween(repository, main, commit, mostTold);
        if (found.length === 0 && !(await hasCommit(repository, commit))) throw absent;
        return found;
      },
    });
  } catch (error) {
    if (error === absent) return [];
    throw error;
  }
}
