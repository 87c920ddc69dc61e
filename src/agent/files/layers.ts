/**
 * Unpacked layers, kept once for each digest or set of files; several attempts that need one wait for the same unpacking.
 *
 * Work reads them and can never write them. Where the agent is root they lie in `store/layers`, which no other account can
 * enter, and work sees them at `layers`, a read-only mount of that folder. That one is whole stands in `store/ready`: a file for
 * each, with the digest that was unpacked; a folder alone says nothing.
 */
import { execFileSync } from 'node:child_process';
import {
  createReadStream,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import { rename } from 'node:fs/promises';
import { createHash } from 'node:crypto';
import { join } from 'node:path';
import { PassThrough, type Readable } from 'node:stream';
import { openAbort } from '../abort.js';
import { timeOfDigest } from '../../blobs/layer.js';
import { unpackLayer } from '../../blobs/unpack.js';
import { CodedError } from '../../core/errors/errors.js';
import { openTally } from '../../core/tally.js';
import { type FileSource, openComposer } from './compose.js';
import { clearPlace, discard } from './remove.js';
import { ownFolder } from '../sandbox/chain.js';
import type { Account } from '../sandbox/host.js';

export interface Layers {
  /** The folder of a set of files; `source` gives what is not there yet. Given up when all who wait for it have aborted. */
  files(key: string, source: FileSource, abort?: AbortSignal): Promise<string>;
  /** The folder of a stored layer. */
  output(digest: string, fetch: () => Promise<Readable>, abort?: AbortSignal): Promise<string>;
  /** Where a stored layer is, when it is here. */
  at(digest: string): string;
  /** Keeps the tar of a layer that was made here, so that it need not be fetched. */
  keep(digest: string, tar: string): Promise<void>;
  /** Says that somebody works with these (a set of files by its key, layers by digest) until the returned function is called. */
  hold(key: string | null, digests: readonly string[]): () => void;
  /** Removes what nobody holds and has used for `ms`, and the oldest of what nobody holds while the disk is `full`. Returns how many. */
  tidy(ms: number, full: () => Promise<boolean>): Promise<number>;
  close(): void;
}

export function openLayers(folder: string, account: Account | null): Layers {
  const store = join(folder, 'store');
  const seen = join(folder, 'layers');
  const [kept, ready, tars] = ['layers', 'ready', 'tars'].map((name) => join(store, name)) as [string, string, string];
  mkdirSync(store, { recursive: true, mode: 0o700 });
  for (const path of [kept, ready, tars]) mkdirSync(path, { recursive: true, mode: 0o755 });
  const mounted = account ? mountReadOnly(kept, seen) : false;
  const shown = mounted ? seen : kept;
  ownFolder(store, null, mounted ? 0o700 : 0o711);
  const isReady = (name: string, key: string): boolean => {
    try {
      return readFileSync(join(ready, name), 'utf8') === key && existsSync(join(kept, name));
    } catch {
      return false;
    }
  };
  // What was cut short, and what somebody else has put there, is nothing.
  for (const name of readdirSync(kept))
    if (!existsSync(join(ready, name))) rmSync(join(kept, name), { recursive: true, force: true });
  const busy = new Map<string, Unpacking>();
  const held = openTally();

  const once = (
    name: string,
    key: string,
    abort: AbortSignal | undefined,
    /** Gives what is to be done when the layer has its place. */
    unpack: (into: string, given: AbortSignal) => Promise<(() => void) | undefined>,
  ): Promise<string> => {
    const place = join(kept, name);
    if (isReady(name, key)) {
      touch(join(ready, name));
      return Promise.resolve(join(shown, name));
    }
    const running = busy.get(name);
    if (running && !running.given.signal.aborted) return waitFor(running, abort);
    const given = openAbort();
    const work = (async () => {
      await running?.work.catch(() => {});
      const fresh = `${place}.new`;
      for (const path of [fresh, place, join(ready, name)]) clearPlace(folder, path);
      ownFolder(fresh, account, 0o755);
      const placed = await unpack(fresh, given.signal);
      await rename(fresh, place);
      writeFileSync(join(ready, `${name}.new`), key, { mode: 0o600 });
      renameSync(join(ready, `${name}.new`), join(ready, name));
      placed?.();
      return join(shown, name);
    })().finally(() => busy.get(name) === one && busy.delete(name));
    work.catch(() => {});
    const one: Unpacking = { work, given, waiting: 0 };
    busy.set(name, one);
    return waitFor(one, abort);
  };
  const composer = openComposer(account);
  const short = (text: string) => text.replace('sha256:', '').slice(0, 32);
  return {
    files: (key, source, abort) =>
      once(`f${short(key)}`, key, abort, async (into, given) => {
        const files = await composer.fill(into, source, (stream) => untilAborted(stream, given));
        return files ? () => composer.learn(join(kept, `f${short(key)}`), files) : undefined;
      }),
    output: (digest, fetch, abort) =>
      once(`o${short(digest)}`, digest, abort, async (into, given) => {
        const tar = join(tars, short(digest));
        const layer = untilAborted(existsSync(tar) ? createReadStream(tar) : await fetch(), given);
        try {
          await checked(layer, digest, (stream) =>
            unpackLayer(stream, { into, owner: account, time: timeOfDigest(digest), links: true }),
          );
        } finally {
          rmSync(tar, { force: true });
        }
        return undefined;
      }),
    at: (digest) => join(shown, `o${short(digest)}`),
    keep: (digest, tar) => rename(tar, join(tars, short(digest))),
    hold(key, digests) {
      const names = [...(key ? [`f${short(key)}`] : []), ...digests.map((digest) => `o${short(digest)}`)];
      const gives = names.map((name) => held.enter(name));
      return () => {
        for (const give of gives) give?.();
      };
    },
    async tidy(ms, full) {
      let gone = 0;
      for (const name of readdirSync(tars))
        if (age(join(tars, name)) > Math.min(ms, 3_600_000)) rmSync(join(tars, name), { force: true });
      const all = readdirSync(ready)
        .map((name) => ({ name, age: age(join(ready, name)) }))
        .sort((a, b) => b.age - a.age);
      for (const one of all) {
        if (one.age <= ms && !(await full())) break;
        if (busy.has(one.name) || held.has(one.name)) continue;
        // The word that it is whole goes first.
        rmSync(join(ready, one.name), { force: true });
        void discard(folder, join(kept, one.name));
        gone++;
      }
      return gone;
    },
    close() {
      if (mounted) unmount(seen);
    },
  };
}

interface Unpacking {
  work: Promise<string>;
  given: AbortController;
  waiting: number;
}

/** Waits for an unpacking; when the last one who waits gives up, so does the unpacking. */
function waitFor(one: Unpacking, abort: AbortSignal | undefined): Promise<string> {
  one.waiting++;
  return new Promise((resolve, reject) => {
    const give = () => {
      one.waiting--;
      if (one.waiting === 0) one.given.abort();
      reject(new CodedError('stopped_by', { who: 'a person' }));
    };
    if (abort?.aborted) return give();
    abort?.addEventListener('abort', give, { once: true });
    one.work.finally(() => abort?.removeEventListener('abort', give)).then(resolve, reject);
  });
}

function untilAborted(layer: Readable, given: AbortSignal): Readable {
  const end = () => layer.destroy(new CodedError('stopped_by', { who: 'a person' }));
  if (given.aborted) end();
  given.addEventListener('abort', end, { once: true });
  layer.once('close', () => given.removeEventListener('abort', end));
  return layer;
}

const age = (path: string): number => {
  try {
    return Date.now() - statSync(path).mtimeMs;
  } catch {
    return 0;
  }
};

function touch(path: string): void {
  const now = new Date();
  if (age(path) > 60_000) utimesSync(path, now, now);
}

/**
 * Shows `from` read-only at `to`. In the agent's own mount namespace where it has one (`serve` gives it one), so that it goes with
 * the last process in it. An earlier agent's is used again.
 */
function mountReadOnly(from: string, to: string): boolean {
  mkdirSync(to, { recursive: true, mode: 0o755 });
  const there = readFileSync('/proc/self/mountinfo', 'utf8')
    .split('\n')
    .some((line) => line.split(' ')[4] === to && /(^|,)ro(,|$)/.test(line.split(' ')[5] ?? ''));
  if (there) return true;
  try {
    execFileSync('mount', ['--bind', from, to], { stdio: 'pipe' });
    execFileSync('mount', ['-o', 'remount,bind,ro,nosuid,nodev', to], { stdio: 'pipe' });
    return true;
  } catch (error) {
    unmount(to);
    throw new CodedError('sandbox_missing', {
      why: 'the layers could not be mounted read-only.',
      hint: `mount says: ${String((error as Error).message).slice(0, 200)}`,
    });
  }
}

function unmount(path: string): void {
  try {
    execFileSync('umount', ['--lazy', path], { stdio: 'ignore' });
  } catch {
    // It goes with the namespace.
  }
}

/** Passes the bytes on and refuses them at the end when they have another digest. */
async function checked(layer: Readable, digest: string, use: (stream: Readable) => Promise<void>): Promise<void> {
  const hash = createHash('sha256');
  const through = new PassThrough();
  layer.on('data', (chunk: Buffer) => hash.update(chunk));
  layer.on('error', (error) => through.destroy(error));
  layer.pipe(through);
  try {
    await use(through);
  } finally {
    layer.destroy();
  }
  if (`sha256:${hash.digest('hex')}` !== digest) throw new CodedError('digest_wrong', { digest });
}
