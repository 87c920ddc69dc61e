/** A bare repository: commits, trees, files, refs. A commit is always named by its whole id. */
import { LRUCache } from 'lru-cache';
import { existsSync } from 'node:fs';
import { mkdir, rename, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { CodedError } from '../core/errors/errors.js';
import type { ListedFile } from '../core/plan/plan.js';
import { sizeText } from '../core/sizes.js';
import { endGit, git, type GitOptions, startGit } from './command.js';
import { gitRemote, type Remote } from './remote.js';
import { objectInfo, objectOf, treeEntries, type TreeEntry } from './objects.js';

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
    ['receive.maxInputSize', String(2 * 1024 ** 3)],
    ['fetch.fsckObjects', 'true'],
    ['pack.windowMemory', '256m'],
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
  const tries = /^[0-9a-f]{4,64}$/.test(text)
    ? [text, `refs/heads/${text}`]
    : isBranchName(text)
      ? [`refs/heads/${text}`]
      : [];
  for (const one of tries) {
    const found = await objectOf(repository, one, 'commit');
    if (found) return found.id;
  }
  return null;
}

// biome-ignore lint/suspicious/noControlCharactersInRegex: they are refused
const notInBranch = /[\u0000-\u0020\u007f~^:?*[\\]|\.\.|@\{|\/\/|^[-/]|[/.]$|\.lock(\/|$)|(^|\/)\./;

/** Whether git lets a branch be named so (git-check-ref-format(1)); everything else would be an expression of git's own. */
export const isBranchName = (text: string): boolean =>
  text.length <= 250 && !notInBranch.test(text) && text !== '' && text !== '@';

/** What commits say never changes. Characters of all of them together. */
const knownFacts = new LRUCache<string, CommitFacts>({
  maxSize: 4_000_000,
  sizeCalculation: ({ parents, author, title }) => 300 + parents.length * 64 + author.length + title.length,
});

export async function commitFacts(repository: string, commit: string): Promise<CommitFacts | null> {
  const key = `${repository} ${commit}`;
  const known = knownFacts.get(key);
  if (known) return known;
  const found = await objectOf(repository, commit, 'commit');
  if (!found) return null;
  const facts = factsOf(found);
  if (found.id === commit) knownFacts.set(key, facts);
  return facts;
}

function factsOf(found: { id: string; body: Buffer }): CommitFacts {
  // Cut before anything is matched: a message, a name, a header may be as long as whoever made the commit liked.
  const body = found.body.subarray(0, factsLimit);
  const end = body.indexOf('\n\n');
  const head = end < 0 ? body : body.subarray(0, end);
  // Headers of several lines (signatures) go on with a space.
  const lines = head.toString('latin1').split('\n');
  const header = (key: string): string =>
    (lines.find((line) => line.startsWith(`${key} `))?.slice(key.length + 1) ?? '').slice(0, headerLimit);
  const text = (bytes: Buffer): string => decoderOf(header('encoding')).decode(bytes);
  const message = text(body.subarray(end < 0 ? body.length : end + 2)).trimStart();
  const title = [];
  for (const line of message.slice(0, titleLimit).split('\n')) {
    if (line.trim() === '') break;
    title.push(line.trim());
  }
  return {
    id: found.id,
    parents: lines.filter((line) => line.startsWith('parent ')).map((line) => line.slice(7)),
    author: clean(text(Buffer.from(personOf(header('author')).name, 'latin1'))),
    at: new Date(Math.min(Math.max(personOf(header('committer')).seconds, 0), 253_402_300_799) * 1000),
    title: clean(title.join(' ')),
  };
}

/** Bytes of a commit that are looked at, of one header, and characters of its message in which the title must stand. */
const factsLimit = 256 * 1024;
const headerLimit = 1_000;
const titleLimit = 2_000;

/** `NAME <ADDRESS> SECONDS ZONE`, whatever of it there is. */
function personOf(text: string): { name: string; seconds: number } {
  const open = text.indexOf('<');
  const close = text.indexOf('>', open);
  const seconds = /^ (-?\d{1,20})/.exec(close < 0 ? '' : text.slice(close + 1, close + 40))?.[1];
  return { name: (open < 0 ? '' : text.slice(0, open)).trim(), seconds: Number(seconds ?? 0) };
}

/** Messages are UTF-8 unless their commit says otherwise; an encoding that nobody knows is read as Latin-1. */
function decoderOf(encoding: string): InstanceType<typeof TextDecoder> {
  try {
    return new TextDecoder(encoding || 'utf-8');
  } catch {
    return new TextDecoder('latin1');
  }
}

/** Control characters have no place in a title; text that is not UTF-8 shows replacement characters. PostgreSQL can't hold U+0000. */
// biome-ignore lint/suspicious/noControlCharactersInRegex: that is what is looked for
const clean = (text: string): string => text.replace(/[\u0000-\u001f\u007f]/g, ' ').slice(0, 500);

/** Commits that are kept already; what keeps one is never taken away, but with its whole repository. */
const kept = new LRUCache<string, true, () => Promise<true>>({
  max: 20_000,
  fetchMethod: (_key, _stale, { context }) => context(),
});

/** Keeps a commit for good, whatever happens to its branch. */
export async function holdCommit(repository: string, commit: string): Promise<void> {
  await kept.forceFetch(`${repository} ${commit}`, {
    context: async () => {
      await git(repository, ['update-ref', `refs/tsunagi/commits/${commit}`, commit]);
      return true;
    },
  });
}

/** What may be listed of one commit. */
export interface TreeBounds {
  /** Files and folders, as often as they are met. */
  entries: number;
  /** Bytes of all their paths. */
  bytes: number;
  depth: number;
}

export const treeBounds: TreeBounds = { entries: 200_000, bytes: 64 * 1024 ** 2, depth: 100 };

/** Every file of the commit below `folder` (`''` is the root), with paths relative to it, in the order of git; `tree_too_large` past the bounds. */
export async function listFiles(
  repository: string,
  commit: string,
  folder: string,
  bounds: TreeBounds = treeBounds,
): Promise<ListedFile[]> {
  const root = await treeAt(repository, commit, folder);
  const files: ListedFile[] = [];
  let entriesSeen = 0;
  let bytes = 0;
  const refuse = (limit: string) => new CodedError('tree_too_large', { commit: commit.slice(0, 7), limit });
  const walk = async (id: string, path: string | null, shown: string, depth: number): Promise<void> => {
    const entries = await treeEntries(repository, id);
    if (!entries) throw new Error(`git has no tree ${id}`);
    if (depth > bounds.depth) throw refuse(`${bounds.depth} folders in each other`);
    // A few objects can name each other so often that no list of their paths would ever end.
    entriesSeen += entries.length;
    if (entriesSeen > bounds.entries) throw refuse(`${bounds.entries.toLocaleString('en')} files and folders`);
    for (const { mode, name, id: entry } of entries) {
      bytes += shown.length + name.length;
      if (bytes > bounds.bytes) throw refuse(`${sizeText(bounds.bytes)} of paths`);
      const text = utf8(name);
      const whole = path === null || text === null ? null : path + text;
      const readableName = shown + (text ?? readable(name));
      if (mode === '040000') await walk(entry, whole === null ? null : `${whole}/`, `${readableName}/`, depth + 1);
      else files.push({ path: whole, shown: readableName, mode, id: entry });
    }
  };
  if (root) await walk(root, '', '', 0);
  return files;
}

/** The tree of a folder of a commit, or null. */
async function treeAt(repository: string, commit: string, folder: string): Promise<string | null> {
  const root = await objectOf(repository, commit, 'commit');
  let id: string | null = /^tree ([0-9a-f]+)/.exec(root?.body.toString('latin1', 0, 80) ?? '')?.[1] ?? null;
  for (const step of folder ? folder.split('/') : []) {
    const entries: TreeEntry[] | null = id ? await treeEntries(repository, id) : null;
    id = entries?.find((one) => one.mode === '040000' && one.name.equals(Buffer.from(step)))?.id ?? null;
  }
  return id;
}

const decoder = new TextDecoder('utf-8', { fatal: true });
function utf8(bytes: Uint8Array): string | null {
  try {
    return decoder.decode(bytes);
  } catch {
    return null;
  }
}
const readable = (bytes: Buffer): string =>
  bytes.toString('latin1').replace(/[^ -~]/g, (one) => `\\x${one.charCodeAt(0).toString(16).padStart(2, '0')}`);

/** A file of a commit, or null; at most `limit` bytes are read, a larger file is given as `too large`. A link is no file. */
export async function readFile(
  repository: string,
  commit: string,
  path: string,
  limit: number,
): Promise<Buffer | 'too large' | null> {
  const at = path.lastIndexOf('/');
  const folder = await treeAt(repository, commit, at < 0 ? '' : path.slice(0, at));
  const entries = folder ? await treeEntries(repository, folder) : null;
  const found = entries?.find((one) => one.mode.startsWith('100') && one.name.equals(Buffer.from(path.slice(at + 1))));
  const info = found ? await objectInfo(repository, found.id) : null;
  if (!found || info?.type !== 'blob') return null;
  return info.size > limit ? 'too large' : ((await objectOf(repository, found.id, 'blob'))?.body ?? null);
}

/** Files that are read one by one through the git that stays open: at most so many, of so many bytes in all. */
const fewObjects = 64;
const fewBytes = 4_000_000;

/** A file's bytes as they come. */
export interface StoredFile {
  size: number;
  body: AsyncIterable<Buffer>;
}

/** Files by id, in the order asked; each is to be read before the next. Many, and large ones, go through a git of their own, piece by piece. */
export async function* readFiles(repository: string, ids: readonly string[]): AsyncGenerator<StoredFile> {
  if (ids.length > fewObjects) return yield* streamFiles(repository, ids);
  const infos = await Promise.all(ids.map((id) => objectInfo(repository, id)));
  if (infos.reduce((sum, one) => sum + (one?.size ?? 0), 0) > fewBytes) return yield* streamFiles(repository, ids);
  for (const found of await Promise.all(ids.map((id) => objectOf(repository, id, 'blob')))) {
    if (!found) throw new Error('git has not all of these files');
    yield { size: found.body.length, body: once(found.body) };
  }
}

async function* once(body: Buffer): AsyncGenerator<Buffer> {
  if (body.length) yield body;
}

/** Files by id through one `cat-file --batch` of their own. */
async function* streamFiles(repository: string, ids: readonly string[]): AsyncGenerator<StoredFile> {
  const child = startGit(repository, ['cat-file', '--batch', '--buffer']);
  child.stderr.resume();
  child.on('error', () => {});
  child.stdin.on('error', () => {});
  child.stdin.end(ids.map((id) => `${id}\n`).join(''));
  const reader = child.stdout[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
  let rest: Buffer = Buffer.alloc(0);
  const more = async (): Promise<Buffer> => {
    const next = await reader.next();
    if (next.done) throw new Error('git cat-file ended early');
    return next.value;
  };
  try {
    for (const id of ids) {
      while (rest.indexOf(10) < 0) rest = rest.length ? Buffer.concat([rest, await more()]) : await more();
      const end = rest.indexOf(10);
      const size = Number(/^[0-9a-f]+ blob (\d+)$/.exec(rest.toString('latin1', 0, end))?.[1] ?? Number.NaN);
      if (Number.isNaN(size)) throw new Error(`git has no file ${id}`);
      rest = rest.subarray(end + 1);
      let left = size;
      yield {
        size,
        body: (async function* () {
          while (left > 0) {
            if (rest.length === 0) rest = await more();
            const piece = rest.subarray(0, left);
            rest = rest.subarray(piece.length);
            left -= piece.length;
            yield piece;
          }
        })(),
      };
      if (left > 0) throw new Error(`the file ${id} was not read to its end`);
      while (rest.length === 0) rest = await more();
      rest = rest.subarray(1);
    }
  } finally {
    endGit(child);
  }
}

/** Commits of a branch's history along first parents, the newest first. */
export async function history(repository: string, commit: string, limit: number): Promise<string[]> {
  const { out, exit } = await git(repository, ['rev-list', '--first-parent', `--max-count=${limit}`, commit, '--'], {
    expect: [0, 128],
  });
  return exit === 0 ? out.toString().split('\n').filter(Boolean) : [];
}

/** Commits along the first parents of `head` that are not before `since`, the newest first. */
export async function firstParents(repository: string, since: string, head: string, limit: number): Promise<string[]> {
  const { out } = await git(repository, [
    'rev-list',
    '--first-parent',
    `--max-count=${limit}`,
    head,
    `^${since}`,
    '--',
  ]);
  return out.toString().split('\n').filter(Boolean);
}

/** Whether a commit is one of a branch's, or of those before. */
export async function onBranches(repository: string, commit: string): Promise<boolean> {
  const { out } = await git(repository, ['rev-list', '--max-count=1', commit, '--not', '--branches', '--']);
  return out.toString().trim() === '';
}

/** Commits that `to` has and `from` has not, the newest first; `from` null means all of `to`. None where one of them is not here. */
export async function commitsBetween(
  repository: string,
  from: string | null,
  to: string,
  limit: number,
): Promise<CommitFacts[]> {
  const range = from ? [to, `^${from}`] : [to];
  const { out, exit } = await git(repository, ['rev-list', `--max-count=${limit}`, ...range, '--'], {
    expect: [0, 128],
  });
  if (exit !== 0) return [];
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

/** A fetch may take an hour as long as it goes on: whatever the other side or git itself does is reported on standard error. */
const fetchLimits: GitOptions = { timeout: 3_600_000, stall: 120_000 };

/** Fetches all branches (and the given refs) from elsewhere. Git prunes no object. A branch that is gone there is removed here. */
export async function fetchAll(repository: string, remote: Remote, refs: readonly string[] = []): Promise<void> {
  const fetch = (flags: readonly string[], spec: string) =>
    gitRemote(
      repository,
      remote,
      (url) => [
        'fetch',
        '--progress',
        '--no-tags',
        '--no-write-fetch-head',
        '--no-auto-gc',
        ...flags,
        '--end-of-options',
        url,
        spec,
      ],
      fetchLimits,
    );
  await fetch(['--prune'], '+refs/heads/*:refs/heads/*');
  for (const ref of refs) await fetch([], ref);
}

/** Refs that neither a push nor a fetch of ours makes: they can change what git reads under an id, or keep what is not seen. */
export async function foreignRefs(repository: string): Promise<string[]> {
  const { out } = await git(repository, ['for-each-ref', '--format=%(refname)']);
  return out
    .toString('utf8')
    .split('\n')
    .filter((ref) => ref !== '' && !ref.startsWith('refs/heads/') && !ref.startsWith('refs/tsunagi/'));
}

/** Deletes refs. A name that is not UTF-8 cannot be given back to git exactly, so git refuses it. */
export async function deleteRefs(repository: string, refs: readonly string[]): Promise<void> {
  await git(repository, ['update-ref', '--stdin', '-z'], {
    input: refs.map((ref) => `delete ${ref}\0\0`).join(''),
  });
}

/** Whether a commit is the other one or comes before it; false where one of them is not here. */
export const isBefore = async (repository: string, commit: string, other: string): Promise<boolean> =>
  (await git(repository, ['merge-base', '--is-ancestor', commit, other], { expect: [0, 1, 128] })).exit === 0;

/** Names of refs that fit into one command line with room to spare. */
const refsAtOnce = 500;

/** Those of the held `commits` that `head` contains: one git for 500 of them. Commits that are not held are left out. */
export async function heldIn(repository: string, commits: readonly string[], head: string): Promise<Set<string>> {
  const found = new Set<string>();
  for (let at = 0; at < commits.length; at += refsAtOnce) {
    const refs = commits.slice(at, at + refsAtOnce).map((commit) => `refs/tsunagi/commits/${commit}`);
    const { out } = await git(repository, ['for-each-ref', `--merged=${head}`, '--format=%(objectname)', ...refs]);
    for (const id of out.toString('utf8').split('\n')) if (id) found.add(id);
  }
  return found;
}

/** Whether the repository has the commit, by its whole id. */
export const hasCommit = async (repository: string, commit: string): Promise<boolean> =>
  isCommitId(commit) && (await objectInfo(repository, `${commit}^{commit}`)) !== null;
