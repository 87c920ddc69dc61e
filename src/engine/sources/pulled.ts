/**
 * Pull requests of sources that send no events: their refs are looked at with the branches. Nobody says who has written them, so each is
 * a stranger's. What is there at the first look is known from then on: such refs outlive their pull requests.
 */
import { changedRefs, type PullRefs, type RefChange } from '../../core/pull-refs.js';
import { CodedError } from '../../core/errors/errors.js';
import { commitFacts, fetchAll, hasCommit, heldIn, isCommitId } from '../../git/repository.js';
import { branchHead, findPullRequest, openPullRequests } from '../../records/projects/sources.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { beginPulled, pulledOf, putPulled } from '../../records/projects/pulled.js';
import { type Context, ensureRepository } from '../context.js';
import { remoteOf } from './credentials.js';
import { takePull } from './sources.js';

/** Refs that are looked at in all, and changes that one look takes in. */
const mostRefs = 20_000;
const atOnce = 20;
const actor = 'a look at its source';
const passing: ReadonlySet<string> = new Set(['fence_old', 'commit_absent']);

/** Takes in what has changed of them; whether there is more. */
export async function lookAtPulls(
  context: Context,
  project: ProjectRow,
  refs: PullRefs,
  heads: ReadonlyMap<number, string>,
): Promise<boolean> {
  const { records } = context;
  if (heads.size > mostRefs) throw new CodedError('pull_refs_many', { count: heads.size, most: mostRefs });
  if (await records.transition('pulls.begun', (db) => beginPulled(db, project.id, project.pull_refs ?? '', heads)))
    return false;
  const { changes, more } = changedRefs(await pulledOf(records, project.id), heads, atOnce);
  for (const change of changes)
    await take(context, project, refs, change).catch((error: unknown) => {
      // It has moved on meanwhile: the next look finds it as it is then.
      if (!(error instanceof CodedError && passing.has(error.issue.code))) throw error;
    });
  await closeMerged(context, project);
  return more;
}

async function take(context: Context, project: ProjectRow, refs: PullRefs, change: RefChange): Promise<void> {
  const { number } = change;
  const { records } = context;
  const seen = await findPullRequest(records, project.id, number);
  const at = context.now();
  if ('gone' in change) {
    if (seen?.state === 'open')
      return takePull(context, project, { number, event: { what: 'abandoned', at }, author: null, actor }, (db) =>
        putPulled(db, project.id, number, null),
      );
    return void (await putPulled(records, project.id, number, null));
  }
  const { head } = change;
  const repository = await ensureRepository(context, project);
  if (!(await hasCommit(repository, head)))
    await fetchAll(repository, remoteOf(context, project), [`${refs.before}${number}${refs.after}`]);
  const facts = await commitFacts(repository, head);
  // It has moved on since it was looked at: the next look finds it.
  if (!facts) return;
  const told = { head, trusted: false, ...(seen ? {} : { title: facts.title, base: project.main_branch }) };
  const event = { what: seen ? ('updated' as const) : ('opened' as const), at, ...told };
  await takePull(context, project, { number, event, author: facts.author, actor }, (db) =>
    putPulled(db, project.id, number, head),
  );
}

/** A pull request whose head main contains is merged, whether its ref is still there or not. */
async function closeMerged(context: Context, project: ProjectRow): Promise<void> {
  const { records } = context;
  const open = await openPullRequests(records, project.id);
  const main = open.length ? await branchHead(records, project.id, project.main_branch) : null;
  if (main === null) return;
  const merged = await heldIn(
    await ensureRepository(context, project),
    open.flatMap(({ head }) => (isCommitId(head) ? [head] : [])),
    main,
  );
  for (const { number, head } of open)
    if (merged.has(head))
      await takePull(
        context,
        project,
        { number, event: { what: 'merged', at: context.now() }, author: null, actor },
        async () => {},
      );
}
