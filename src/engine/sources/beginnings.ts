/** What a project can begin with: files of a first commit, which pass their tests and go live as they stand. */
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { BeginningKind } from '../../core/states.js';
import { commitFiles, moveBranch } from '../../git/write.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { begunProject } from '../../records/projects/projects.js';
import { branchHead, intendPush } from '../../records/projects/sources.js';
import { type Context, ensureRepository } from '../context.js';
import { authorOf } from './drafts.js';

/** Beside the sources, or beside what is built. */
function home(name: string): string {
  const here = dirname(fileURLToPath(import.meta.url));
  const found = ['../../..', '../../../..'].map((up) => join(here, up, name)).find((path) => existsSync(path));
  if (!found) throw new Error(`no ${name} beside ${here}`);
  return found;
}

/** Files that a beginning has of another one as they stand there. */
const borrowed: Partial<Record<BeginningKind, Partial<Record<BeginningKind, readonly string[]>>>> = {
  'site-and-api': {
    'node-api': ['migrations/001-notes.sql', 'package.json', 'src/migrate.js', 'src/notes.js', 'src/server.js'],
    site: ['public/style.css'],
  },
};

/** Path → text, with the project's name where NAME stands. */
export function filesOfBeginning(kind: BeginningKind, project: string): Record<string, string> {
  const files: Record<string, string> = {};
  const put = (of: BeginningKind, path: string) => {
    files[path] = readFileSync(join(home('beginnings'), of, path), 'utf8').replace(/\bNAME\b/g, project);
  };
  const folder = join(home('beginnings'), kind);
  for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true }))
    if (entry.isFile()) put(kind, join(entry.parentPath, entry.name).slice(folder.length + 1));
  for (const [of, paths] of Object.entries(borrowed[kind] ?? {}))
    for (const path of paths) put(of as BeginningKind, path);
  if (!Object.values(files).some((text) => text.includes('vendor/pg.js'))) return files;
  return {
    ...files,
    'vendor/pg.js': readFileSync(home('driver.js'), 'utf8'),
    'vendor/LICENSE-pg': readFileSync(home('driver.LICENSE'), 'utf8'),
  };
}

/**
 * Makes the first commit of a project that was asked to begin with something, as a push of its own. It is asked for again until it is
 * there: nothing is done where the branch has a commit by now.
 */
export async function beginProject(context: Context, project: ProjectRow, actor: string): Promise<void> {
  const { beginning, main_branch: branch } = project;
  if (beginning === null) return;
  const repository = await ensureRepository(context, project);
  if ((await branchHead(context.records, project.id, branch)) === null) {
    const files = filesOfBeginning(beginning, project.name);
    const commit = await commitFiles(repository, null, files, 'Begin\n', authorOf(actor));
    await context.records.transition('push.intended', (db) => intendPush(db, project.id, branch, null, commit, actor));
    // Somebody was quicker, who pushes.
    await moveBranch(repository, branch, commit, null);
  }
  await begunProject(context.records, project.id);
}
