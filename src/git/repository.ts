/** A bare repository: commits, trees, files, refs. A commit is always named by its whole id. */
import { existsSync } from 'node:fs';
import { mkdir, rename, rm } from 'node:fs/promises';
import { join } from 'node:path';
import type { ListedFile } from '../core/plan/plan.js';
import { git, startGit } from './command.js';

export interface CommitFacts {
  id: string;
  parents: string[];
  author: string;
  at: Date;
  title: string;
}

export const isCommitId = (text: string): boolean => /^[0-9a-f]{40}([0-9a-f]{24})?$/.test(text);

/** Makes a bare repository at `path`, whole or not at all. Objects are never pruned; our own refs are hidden from clients. */
export async function makeRepository(path: string, mainBranch: string): Promise<void> {
  if (existsSync(join(path, 'HEAD'))) return;
  const fresh = `${path}.${process.pid}.new`;
  await rm(fresh, { recursive: true, force: true });
  await mkdir(fresh, { recursive: true });
  await git(fresh, ['init', '-q', '--bare', `--initial-branch=${mainBranch}`, fresh]);
  const settings: [string, string][] = [
    ['gc.auto', '0'],
    ['gc.pruneExpire', 'never'],
    ['receive.autogc', 'false'],
    ['receive.denyDeleteCurrent', 'ignore'],
    ['receive.fsckObjects', 'true'],
    ['transfer.hideRefs', 'refs/tsunagi'],
    ['http.receivepack', 'true'],
  ];
  for (const [key, value] of settings) await git(fresh, ['config', key, value]);
  await rename(fresh, path).catch((error) => {
    if (!existsSync(join(path, 'HEAD'))) throw error;
  });
}

/** Branch → commit. Names that are not UTF-8 are left out. */
export async function branches(repository: string): Promise<Map<string, string>> {
  const { out } = await git(repository, ['for-each-ref', '--format=%(objectname) %(refname)', 'refs/heads/']);
  const found = new Map<string, string>();
  for (const line of out.toString('latin1').split('\n')) {
    const at = line.indexOf(' ');
    const name = utf8(Buffer.from(line.slice(at + 1), 'latin1'));
    if (at > 0 && name) found.set(name.slice('refs/heads/'.length), line.slice(0, at));
  }
  return found;
}

/** The commit that a text names (branch, or commit by its id or the beginning of it), or null. */
export async function resolve(repository: string, text: string): Promise<string | null> {
  const tries = /^[0-9a-f]{4,64}$/.test(text) ? [`${text}^{commit}`, `refs/heads/${text}`] : [`refs/heads/${text}`];
  for (const one of tries) {
    const { out, exit } = await git(repository, ['rev-parse', '--verify', '--quiet', '--end-of-options', one], { expect: [0, 1, 128] });
    if (exit === 0) return out.toString().trim();
  }
  return null;
}

export async function commitFacts(repository: string, commit: string): Promise<CommitFacts | null> {
  const { out, exit } = await git(
    repository,
    ['show', '-s', '--no-show-signature', '--encoding=UTF-8', '--format=%H%x00%P%x00%an%x00%ct%x00%s', commit, '--'],
    { expect: [0, 128] },
  );
  if (exit !== 0) return null;
  const [id, parents, author, seconds, title] = out.toString('utf8').replace(/\n$/, '').split('\0');
  return {
    id: id as string,
    parents: parents ? parents.split(' ') : [],
    author: clean(author ?? ''),
    at: new Date(Number(seconds) * 1000),
    title: clean(title ?? ''),
  };
}

/** Control characters have no place in a title; text that is not UTF-8 shows replacement characters. PostgreSQL can't hold U+0000. */
// biome-ignore lint/suspicious/noControlCharactersInRegex: that is what is looked for
const clean = (text: string): string => text.replace(/[\u0000-\u001f\u007f]/g, ' ').slice(0, 500);

/** Keeps a commit for good, whatever happens to its branch. */
export async function holdCommit(repository: string, commit: string): Promise<void> {
  await git(repository, ['update-ref', `refs/tsunagi/commits/${commit}`, commit]);
}

/** Every file of the commit below `folder` (`''` is the root), with paths relative to it. */
export async function listFiles(repository: string, commit: string, folder: string): Promise<ListedFile[]> {
  const { out, exit } = await git(repository, ['ls-tree', '-r', '-z', '--full-tree', folder ? `${commit}:${folder}` : commit], { expect: [0, 128] });
  if (exit !== 0) return [];
  const files: ListedFile[] = [];
  for (let start = 0; start < out.length; ) {
    const end = out.indexOf(0, start);
    const tab = out.indexOf(9, start);
    const [mode, , id] = out.toString('latin1', start, tab).split(' ') as [string, string, string];
    const bytes = out.subarray(tab + 1, end);
    const path = utf8(bytes);
    files.push({ path, shown: path ?? readable(bytes), mode, id });
    start = end + 1;
  }
  return files;
}

const decoder = new TextDecoder('utf-8', { fatal: true });
function utf8(bytes: Uint8Array): string | null {
  try {
    return decoder.decode(bytes);
  } catch {
    return null;
  }
}
const readable = (bytes: Buffer): string => bytes.toString('latin1').replace(/[^ -~]/g, (one) => `\\x${one.charCodeAt(0).toString(16).padStart(2, '0')}`);

/** A file of a commit, or null; at most `limit` bytes are read, a larger file is given as `too large`. */
export async function readFile(repository: string, commit: string, path: string, limit: number): Promise<Buffer | 'too large' | null> {
  const { out, exit } = await git(repository, ['ls-tree', '-z', '--full-tree', '--long', commit, '--', path], { expect: [0, 128] });
  const found = /^(\d+) blob ([0-9a-f]+) +(\d+)\t/.exec(out.toString('latin1'));
  if (exit !== 0 || !found || found[1] === '120000') return null;
  if (Number(found[3]) > limit) return 'too large';
  return (await git(repository, ['cat-file', 'blob', found[2] as string])).out;
}

/** Objects by id through one `cat-file --batch`, in the order asked. */
export async function* readObjects(repository: string, ids: readonly string[]): AsyncGenerator<Buffer> {
  const child = startGit(repository, ['cat-file', '--batch', '--buffer']);
  child.stderr.resume();
  child.stdin.on('error', () => {});
  child.stdin.end(ids.map((id) => `${id}\n`).join(''));
  const reader = child.stdout[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
  let rest: Buffer = Buffer.alloc(0);
  const more = async (): Promise<void> => {
    const next = await reader.next();
    if (next.done) throw new Error('git cat-file ended early');
    rest = rest.length ? Buffer.concat([rest, next.value]) : next.value;
  };
  try {
    for (const id of ids) {
      while (rest.indexOf(10) < 0) await more();
      const end = rest.indexOf(10);
      const size = Number(/^[0-9a-f]+ blob (\d+)$/.exec(rest.toString('latin1', 0, end))?.[1] ?? Number.NaN);
      if (Number.isNaN(size)) throw new Error(`git has no file ${id}`);
      rest = rest.subarray(end + 1);
      if (rest.length < size + 1) {
        const pieces = [rest];
        let have = rest.length;
        while (have < size + 1) {
          const next = await reader.next();
          if (next.done) throw new Error('git cat-file ended early');
          pieces.push(next.value);
          have += next.value.length;
        }
        rest = Buffer.concat(pieces);
      }
      yield rest.subarray(0, size);
      rest = rest.subarray(size + 1);
    }
  } finally {
    child.kill('SIGKILL');
  }
}

/** Commits of a branch's history along first parents, the newest first. */
export async function history(repository: string, commit: string, limit: number): Promise<string[]> {
  const { out, exit } = await git(repository, ['rev-list', '--first-parent', `--max-count=${limit}`, commit, '--'], { expect: [0, 128] });
  return exit === 0 ? out.toString().split('\n').filter(Boolean) : [];
}

/** Commits that `to` has and `from` has not, the newest first; `from` null means all of `to`. */
export async function commitsBetween(repository: string, from: string | null, to: string, limit: number): Promise<CommitFacts[]> {
  const range = from ? [to, `^${from}`] : [to];
  const { out } = await git(repository, ['rev-list', `--max-count=${limit}`, ...range, '--']);
  const facts = await Promise.all(
    out
      .toString()
      .split('\n')
      .filter(Boolean)
      .map((id) => commitFacts(repository, id)),
  );
  return facts.filter((one) => one !== null);
}

/** Paths that differ between two commits, in the order of git. Names that are not UTF-8 are shown with a replacement character. */
export async function changedPaths(repository: string, from: string, to: string): Promise<string[]> {
  const { out } = await git(repository, ['diff-tree', '-r', '-z', '--name-only', '--no-renames', from, to, '--']);
  return out.toString('utf8').split('\0').filter(Boolean);
}

/** Fetches all branches (and the given refs) from a code host. Nothing is pruned; a branch that is gone there is removed here. */
export async function fetchAll(repository: string, url: string, refs: readonly string[] = []): Promise<void> {
  await git(repository, [
    'fetch',
    '-q',
    '--no-tags',
    '--no-write-fetch-head',
    '--no-auto-gc',
    '--prune',
    '--end-of-options',
    url,
    '+refs/heads/*:refs/heads/*',
  ]);
  for (const ref of refs) await git(repository, ['fetch', '-q', '--no-tags', '--no-auto-gc', '--end-of-options', url, ref]);
}

/** Whether the repository has the commit. */
export async function hasCommit(repository: string, commit: string): Promise<boolean> {
  return (await git(repository, ['cat-file', '-e', `${commit}^{commit}`], { expect: [0, 1, 128] })).exit === 0;
}
