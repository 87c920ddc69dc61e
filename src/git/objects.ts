/**
 * Objects of a repository through one `git cat-file --batch-command` that stays open: starting git costs more than most answers.
 * Trees are kept by their id, which is for good; so only what a commit has changed is read.
 */
import type { ChildProcessWithoutNullStreams } from 'node:child_process';
import { CodedError } from '../core/errors/errors.js';
import { sizeText } from '../core/sizes.js';
import { startGit } from './command.js';

export interface GitObject {
  id: string;
  type: 'commit' | 'tree' | 'blob' | 'tag';
  size: number;
}

interface Ask {
  contents: boolean;
  /** Bytes that are kept at most; more are read and thrown away. */
  most: number;
  done(answer: { object: GitObject; body: Buffer } | null | 'too large'): void;
  failed(error: Error): void;
}

/** Milliseconds after which an idle git is ended, and how many are kept at most. */
const idleMs = 60_000;
const openAtMost = 16;

interface Reader {
  child: ChildProcessWithoutNullStreams;
  asks: Ask[];
  timer: NodeJS.Timeout;
}

const readers = new Map<string, Reader>();

function readerOf(repository: string): Reader {
  const known = readers.get(repository);
  if (known) {
    // The one that was used last stands at the end.
    readers.delete(repository);
    readers.set(repository, known);
    known.timer.refresh();
    return known;
  }
  for (const [path, one] of readers) {
    if (readers.size < openAtMost) break;
    if (one.asks.length === 0) close(path, one);
  }
  const child = startGit(repository, ['cat-file', '--batch-command']);
  const reader: Reader = {
    child,
    asks: [],
    timer: setTimeout(() => reader.asks.length === 0 && close(repository, reader), idleMs),
  };
  reader.timer.unref();
  readers.set(repository, reader);
  const give = makeParser(reader);
  child.stdout.on('data', give);
  child.stderr.resume();
  child.stdin.on('error', () => {});
  const gone = (error: Error) => {
    if (readers.get(repository) === reader) readers.delete(repository);
    clearTimeout(reader.timer);
    for (const ask of reader.asks.splice(0)) ask.failed(error);
  };
  child.on('error', gone);
  child.on('close', () => gone(new Error('git cat-file ended early')));
  hold(reader, false);
  return reader;
}

function close(repository: string, reader: Reader): void {
  readers.delete(repository);
  reader.child.stdin.end();
}

/** Ends what is open for a repository that is going to be removed. */
export function closeObjects(repository: string): void {
  const known = readers.get(repository);
  if (known) close(repository, known);
}

/** A git that nobody waits for does not keep this process alive. */
function hold(reader: Reader, on: boolean): void {
  const { child } = reader;
  for (const one of [child, child.stdin, child.stdout, child.stderr] as unknown as { ref(): void; unref(): void }[]) {
    if (on) one.ref();
    else one.unref();
  }
}

/** Answers come in the order of the questions: a line `ID TYPE SIZE` (and the bytes, where they were asked for), or `NAME missing`. */
function makeParser(reader: Reader): (chunk: Buffer) => void {
  let pieces: Buffer[] = [];
  let have = 0;
  let head: GitObject | null = null;
  const whole = (): Buffer => {
    const all = pieces.length === 1 ? (pieces[0] as Buffer) : Buffer.concat(pieces);
    pieces = [all];
    return all;
  };
  const drop = (bytes: number): void => {
    const rest = whole().subarray(bytes);
    pieces = rest.length ? [rest] : [];
    have = rest.length;
  };
  /** Bytes of an object that is too large, which are still to come and go by. */
  let passing = 0;
  const answer = (value: { object: GitObject; body: Buffer } | null | 'too large'): void => {
    reader.asks.shift()?.done(value);
    if (reader.asks.length === 0) hold(reader, false);
  };
  return (chunk) => {
    pieces.push(chunk);
    have += chunk.length;
    for (;;) {
      if (passing > 0) {
        const now = Math.min(passing, have);
        passing -= now;
        drop(now);
        if (passing > 0) return;
        answer('too large');
        continue;
      }
      const ask = reader.asks[0];
      if (!ask) return;
      if (!head) {
        const end = whole().indexOf(10);
        if (end < 0) return;
        const found = /^([0-9a-f]{40,64}) (commit|tree|blob|tag) (\d+)$/.exec(whole().toString('latin1', 0, end));
        drop(end + 1);
        if (!found) {
          answer(null);
          continue;
        }
        head = { id: found[1] as string, type: found[2] as GitObject['type'], size: Number(found[3]) };
        if (!ask.contents) {
          const object = head;
          head = null;
          answer({ object, body: Buffer.alloc(0) });
          continue;
        }
      }
      if (head.size > ask.most) {
        passing = head.size + 1;
        head = null;
        continue;
      }
      if (have < head.size + 1) return;
      const object = head;
      const body = Buffer.from(whole().subarray(0, object.size));
      drop(object.size + 1);
      head = null;
      answer({ object, body });
    }
  };
}

function ask(
  repository: string,
  name: string,
  contents: boolean,
  most = 0,
): Promise<{ object: GitObject; body: Buffer } | null | 'too large'> {
  // A name that would be two questions is the name of nothing.
  if (/[\n\0]/.test(name) || name === '') return Promise.resolve(null);
  const reader = readerOf(repository);
  return new Promise((done, failed) => {
    reader.asks.push({ contents, most, done, failed });
    hold(reader, true);
    reader.child.stdin.write(`${contents ? 'contents' : 'info'} ${name}\n`);
  });
}

/** What a name (an id, or `refs/heads/main^{commit}`) means, or null. */
export async function objectInfo(repository: string, name: string): Promise<GitObject | null> {
  const found = await ask(repository, name, false);
  return found === null || found === 'too large' ? null : found.object;
}

/** Bytes of one object that are held in memory at most. */
const most: Record<GitObject['type'], number> = {
  commit: 4 * 1024 ** 2,
  tag: 4 * 1024 ** 2,
  tree: 16 * 1024 ** 2,
  blob: 32 * 1024 ** 2,
};

/** An object of this type with its bytes, or null; `git_object_large` where it is more than is held in memory. */
export async function objectOf(
  repository: string,
  name: string,
  type: GitObject['type'],
): Promise<{ id: string; body: Buffer } | null> {
  const found = await ask(repository, `${name}${type === 'blob' ? '' : `^{${type}}`}`, true, most[type]);
  if (found === 'too large') throw new CodedError('git_object_large', { kind: type, limit: sizeText(most[type]) });
  return found?.object.type === type ? { id: found.object.id, body: found.body } : null;
}

export interface TreeEntry {
  mode: string;
  /** The bytes of the name. */
  name: Buffer;
  id: string;
}

/** Trees that were read last, of all repositories: equal ids are equal trees. So many, and so many entries in all. */
const trees = new Map<string, TreeEntry[]>();
const treesKept = 20_000;
const entriesKept = 500_000;
let entriesHeld = 0;

export async function treeEntries(repository: string, id: string): Promise<TreeEntry[] | null> {
  const known = trees.get(id);
  if (known) {
    trees.delete(id);
    trees.set(id, known);
    return known;
  }
  const found = await objectOf(repository, id, 'tree');
  if (!found) return null;
  const entries = parseTree(found.body, found.id.length / 2);
  if (/^[0-9a-f]{40,64}$/.test(id)) {
    entriesHeld += entries.length - (trees.get(id)?.length ?? 0);
    trees.set(id, entries);
    for (const [oldest, its] of trees) {
      if (trees.size <= treesKept && entriesHeld <= entriesKept) break;
      trees.delete(oldest);
      entriesHeld -= its.length;
    }
  }
  return entries;
}

/** `MODE NAME\0ID` one after the other; the id as bytes. */
function parseTree(body: Buffer, idBytes: number): TreeEntry[] {
  const entries: TreeEntry[] = [];
  for (let at = 0; at < body.length; ) {
    const space = body.indexOf(32, at);
    const zero = body.indexOf(0, space);
    entries.push({
      mode: body.toString('latin1', at, space).padStart(6, '0'),
      name: Buffer.from(body.subarray(space + 1, zero)),
      id: body.toString('hex', zero + 1, zero + 1 + idBytes),
    });
    at = zero + 1 + idBytes;
  }
  return entries;
}
