/** The draft of a project: the definition of commits that have none of their own, until it is committed. */
import { unifiedDifference } from '../../core/difference.js';
import { parseApart } from '../runs/parse.js';
import type { DefinitionIssue } from '../../core/definition/parse.js';
import { CodedError } from '../../core/errors/errors.js';
import { readFile } from '../../git/repository.js';
import { type Author, commitFiles, moveBranch } from '../../git/write.js';
import { recordEvents } from '../../records/events.js';
import { type ProjectRow, setProject } from '../../records/projects/projects.js';
import { addRun, branchHead, intendPush } from '../../records/projects/sources.js';
import { type Context, type Db, ensureRepository, repositoryOf } from '../context.js';
import { definitionPath } from '../runs/planning.js';

export interface DraftState {
  text: string | null;
  path: string;
  issues: DefinitionIssue[];
  difference: string;
}

/** The draft (or a text that may become it), what is wrong with it, and what committing it would change. */
export async function draftState(
  context: Context,
  project: ProjectRow,
  text: string | null = project.draft,
): Promise<DraftState> {
  const path = definitionPath(project.folder);
  if (text === null) return { text, path, issues: [], difference: '' };
  const head = await branchHead(context.records, project.id, project.main_branch);
  const committed = head ? await readFile(repositoryOf(context, project), head, path, 256 * 1024) : null;
  const before = committed instanceof Buffer ? committed.toString('utf8') : null;
  const { issues } = await parseApart(context, project.id, text);
  return { text, path, issues, difference: unifiedDifference(path, before, text) };
}

/** Throws the first mistake of a text that is to be kept as a draft. */
export async function checkDraft(context: Pick<Context, 'apart'>, whom: string, text: string): Promise<void> {
  const wrong = (await parseApart(context, whom, text)).issues.find((one) => one.severity === 'error');
  if (wrong) throw new CodedError(wrong.code, wrong.data);
}

/** Keeps a draft that was checked, and runs the newest commit of main with it. */
export async function keepDraft(db: Db, project: ProjectRow, text: string, actor: string): Promise<void> {
  await setProject(db, project.id, { draft: text });
  await recordEvents(db, { type: 'definition.drafted', project: project.id, subject: project.name, actor });
  const commit = await branchHead(db, project.id, project.main_branch);
  if (commit)
    await addRun(db, {
      project: project.id,
      commit,
      branch: project.main_branch,
      pullRequest: null,
      line: 'own',
      cause: 'asked',
      actor,
      allowed: true,
    });
}

/** Whoever does something here, as git has people. */
export const authorOf = (actor: string): Author => ({
  name: actor,
  email: `${actor.replace(/[^A-Za-z0-9._-]+/g, '-')}@users.tsunagi.invalid`,
});

/** Commits the draft on top of a hosted project's main branch, as a push of its own. Returns the commit. */
export async function commitDraft(context: Context, project: ProjectRow, actor: string): Promise<string> {
  if (project.source !== 'hosted')
    throw new CodedError('source_kind', {
      project: project.name,
      kind: 'its code host',
      way: 'a commit of this service',
    });
  if (project.draft === null)
    throw new CodedError('not_found', { what: 'A draft', hint: 'Keep one first: `tsunagi project draft`.' });
  const repository = await ensureRepository(context, project);
  const head = await branchHead(context.records, project.id, project.main_branch);
  const commit = await commitFiles(
    repository,
    head,
    { [definitionPath(project.folder)]: project.draft },
    'Add the definition of its pipeline\n',
    authorOf(actor),
  );
  await context.records.transition('push.intended', (db) =>
    intendPush(db, project.id, project.main_branch, head, commit, actor),
  );
  if (!(await moveBranch(repository, project.main_branch, commit, head)))
    throw new CodedError('branch_moved', { branch: project.main_branch });
  return commit;
}
