/** What people mean by a commit: a branch, a pull request (`pr-12`), a tag, or the beginning of a commit's id. */
import { isKnownOwn, newestRunOf } from '../records/runs/runs.js';
import { CodedError } from '../core/errors/errors.js';
import { type Context, repositoryOf } from '../engine/context.js';
import { type CommitFacts, commitFacts, holdCommit, onBranches, resolve } from '../git/repository.js';
import type { ProjectRow } from '../records/projects/projects.js';
import type { Pull } from '../core/advance/pulls.js';
import { branchOf, findPullRequest } from '../records/projects/sources.js';

export interface Ref {
  commit: string;
  facts: CommitFacts;
  /** The branch that was named or that has this commit as its head. */
  branch: string | null;
  pull: Pull | null;
  /** Whether it is one of the project's own commits, without regard to a pull request. */
  own: boolean;
  /** What an earlier run of the commit was for. */
  earlier: { pull_request: number | null; line: string } | null;
}

/** Throws `ref_unknown`. The commit is held, so that it stays. */
export async function findRef(context: Context, project: ProjectRow, ref: string): Promise<Ref> {
  const { records } = context;
  const repository = repositoryOf(context, project);
  const named = /^pr-(\d{1,9})$/.exec(ref);
  const pull = named ? await findPullRequest(records, project.id, Number(named[1])) : null;
  const commit = pull?.head ?? (ref.startsWith('-') ? null : await resolve(repository, ref));
  const facts = commit ? await commitFacts(repository, commit) : null;
  if (!commit || !facts) throw new CodedError('ref_unknown', { ref: ref.slice(0, 100), project: project.name });
  await holdCommit(repository, commit);
  const branch = pull ? null : await branchOf(records, project, ref, commit);
  return {
    commit,
    facts,
    branch,
    pull,
    earlier: await newestRunOf(records, project.id, commit),
    own: pull === null && (branch !== null || (await isOwn(context, project, repository, commit))),
  };
}

/** Whether a commit is the project's own: on one of its branches, or the head of a trusted pull request, now or when it ran. */
async function isOwn(context: Context, project: ProjectRow, repository: string, commit: string): Promise<boolean> {
  if (await onBranches(repository, commit)) return true;
  return isKnownOwn(context.records, project.id, commit);
}

/**
 * The trust scope of a run of it. A commit that came with somebody's pull request and is neither its head nor on a branch of the project
 * is nobody's: it reads and writes for itself alone.
 */
export const lineOf = ({ pull, own, earlier, commit }: Ref): string =>
  pull
    ? pull.trusted
      ? 'own'
      : `pr-${pull.number}`
    : own
      ? 'own'
      : (earlier?.line ?? `commit-${commit.slice(0, 12)}`);
