/** Writing without a checkout: files committed on top of a branch, and what a change of a text comes to. */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { git } from './command.js';

export interface Author {
  name: string;
  email: string;
}

/**
 * A commit of these texts, by path, on top of `parent` (null: the first one). No ref is moved. Returns its id.
 */
export async function commitFiles(
  repository: string,
  parent: string | null,
  files: Readonly<Record<string, string>>,
  message: string,
  author: Author,
): Promise<string> {
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-index-'));
  const env = {
    GIT_INDEX_FILE: join(folder, 'index'),
    GIT_AUTHOR_NAME: author.name,
    GIT_AUTHOR_EMAIL: author.email,
    GIT_COMMITTER_NAME: author.name,
    GIT_COMMITTER_EMAIL: author.email,
  };
  const run = async (args: string[], input = ''): Promise<string> =>
    (await git(repository, args, { env, input })).out.toString().trim();
  try {
    if (parent) await run(['read-tree', parent]);
    for (const [path, text] of Object.entries(files)) {
      const blob = await run(['hash-object', '-w', '--stdin'], text);
      await run(['update-index', '--add', '--cacheinfo', `100644,${blob},${path}`]);
    }
    return await run(['commit-tree', await run(['write-tree']), ...(parent ? ['-p', parent] : [])], message);
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** Moves a branch, if it still stands where it stood. False when somebody else was quicker. */
export async function moveBranch(
  repository: string,
  branch: string,
  to: string,
  from: string | null,
): Promise<boolean> {
  const { exit } = await git(repository, ['update-ref', `refs/heads/${branch}`, to, from ?? '0'.repeat(to.length)], {
    expect: [0, 128],
  });
  return exit === 0;
}
