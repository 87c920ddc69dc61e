/** The lines of a commit's files that are not in another commit: its changes, by `git diff` without context. */
import { endGit, git, GitError, startGit } from './command.js';

/** Bytes of a difference that are read. */
const diffLimit = 32 * 1024 * 1024;
/** Milliseconds after which it is ended. */
const diffMs = 30_000;

/** The commit in which two histories part, or null where they have nothing in common. */
export async function mergeBase(repository: string, one: string, other: string): Promise<string | null> {
  const { out, exit } = await git(repository, ['merge-base', one, other], { expect: [0, 1] });
  return exit === 0 ? out.toString('utf8').trim() : null;
}

/** Path below `folder` → rising ranges of lines, `1-5,7`, of what `commit` has and `base` has not. Nothing of a file that was removed. */
export async function changedLines(
  repository: string,
  base: string,
  commit: string,
  folder: string,
): Promise<Map<string, string>> {
  const args = [
    '-c',
    'core.quotePath=false',
    'diff',
    '--no-color',
    '--no-ext-diff',
    '--no-textconv',
    '--no-renames',
    '--unified=0',
    '--src-prefix=a/',
    '--dst-prefix=b/',
    base,
    commit,
    '--',
    ...(folder === '' ? [] : [`:(literal,top)${folder}`]),
  ];
  const child = startGit(repository, args);
  const ended = new Promise<number | null>((resolve, reject) => {
    child.on('error', reject);
    child.on('close', resolve);
  });
  ended.catch(() => {});
  const timer = setTimeout(() => endGit(child), diffMs);
  child.stdin.on('error', () => {});
  child.stdin.end();
  child.stderr.resume();
  const changed = new Map<string, string>();
  const prefix = folder === '' ? '' : `${folder}/`;
  let path: string | null = null;
  let rest = '';
  let size = 0;
  /** Lines of a hunk that are still to come: they may look like anything. */
  let inside = 0;
  const take = (line: string): void => {
    if (inside > 0 && !line.startsWith('\\')) {
      inside--;
      return;
    }
    if (line.startsWith('+++ ')) {
      const name = nameOf(line.slice(4));
      path = name?.startsWith(prefix) ? name.slice(prefix.length) : null;
      return;
    }
    const hunk = /^@@ -\d+(?:,(\d+))? \+(\d+)(?:,(\d+))? @@/.exec(line);
    if (!hunk) return;
    const [, gone = '1', from = '0', count = '1'] = hunk;
    inside = Number(gone) + Number(count);
    if (path === null || count === '0') return;
    const range = count === '1' ? from : `${from}-${Number(from) + Number(count) - 1}`;
    const before = changed.get(path);
    changed.set(path, before === undefined ? range : `${before},${range}`);
  };
  for await (const chunk of child.stdout as AsyncIterable<Buffer>) {
    size += chunk.length;
    if (size > diffLimit) {
      endGit(child);
      break;
    }
    const lines = (rest + chunk.toString('latin1')).split('\n');
    rest = lines.pop() ?? '';
    for (const line of lines) take(line);
  }
  const exit = await ended.finally(() => clearTimeout(timer));
  // Of one that is too large what was read counts; one that failed says nothing.
  if (exit !== 0 && size <= diffLimit) throw new GitError(args, exit, 'the difference could not be read');
  return changed;
}

/** `b/PATH`, quoted as in C where it has unusual characters; null for /dev/null. */
function nameOf(text: string): string | null {
  const plain = text.replace(/\t$/, '');
  const quoted = /^"(.*)"$/.exec(plain)?.[1];
  const bytes = quoted === undefined ? plain : quoted.replace(/\\([0-7]{3}|.)/g, (_, one: string) => unquoted(one));
  const name = Buffer.from(bytes, 'latin1').toString('utf8');
  return name.startsWith('b/') ? name.slice(2) : null;
}

const named: Record<string, string> = { n: '\n', t: '\t', r: '\r', a: '\x07', b: '\b', f: '\f', v: '\v' };
const unquoted = (one: string): string =>
  one.length === 3 ? String.fromCharCode(Number.parseInt(one, 8)) : (named[one] ?? one);
