/**
 * Lays out a set of files with what is here already: a file that another layer has is linked, only the others are fetched. Layers are
 * never written to, so a file may stand in many of them.
 */
import { linkSync } from 'node:fs';
import { lchown, mkdir, utimes } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { setImmediate } from 'node:timers/promises';
import { nameOfObject, timeOfObject } from '../../core/objects.js';
import { unpackLayer } from '../../blobs/unpack.js';
import type { TreeFile } from '../../core/fingerprint/inputs.js';
import { unsafePath } from '../../core/paths.js';
import type { Account } from '../sandbox/host.js';
import { removeTree } from './remove.js';

/** Where a set of files comes from. */
export interface FileSource {
  count: number;
  /** All of them as a layer. */
  whole(): Promise<Readable>;
  list(): Promise<TreeFile[]>;
  /** Those of these names (`nameOfObject`), each under its name. */
  some(names: string[]): Promise<Readable>;
}

/** So few are fetched whole: it is one question less. */
const few = 64;
/** Files whose places are known at most; about 200 bytes each. */
const mostKnown = 500_000;
/** Files that are linked before others get their turn. */
const atATime = 200;

export interface Composer {
  /** Fills the folder; gives what is in it where that is worth remembering. */
  fill(into: string, source: FileSource, abort: (stream: Readable) => Readable): Promise<TreeFile[] | null>;
  /** A folder that stays has these files. */
  learn(folder: string, files: readonly TreeFile[]): void;
}

export function openComposer(account: Account | null): Composer {
  /** Name of an object → folder and path in it. */
  const known = new Map<string, { folder: string; path: string }>();

  const linked = (file: TreeFile, into: string): boolean => {
    const place = known.get(nameOfObject(file));
    if (!place) return false;
    try {
      linkSync(join(place.folder, place.path), join(into, file.path));
      return true;
    } catch {
      // Its layer is gone by now, or the file has too many places.
      known.delete(nameOfObject(file));
      return false;
    }
  };

  async function fill(into: string, source: FileSource, abort: (stream: Readable) => Readable) {
    const unpack = async (layer: Promise<Readable>, place: string) =>
      unpackLayer(abort(await layer), { into: place, owner: account, links: true });
    if (source.count <= few) {
      await unpack(source.whole(), into);
      return null;
    }
    // In the order of the layer: what is first in a folder gives it its time.
    const files = [...(await source.list())].sort((a, b) => (a.path < b.path ? -1 : 1));
    const folders = foldersOf(files);
    // What no folder can hold is left to the reader of layers, which says in words what is wrong with it.
    if (folders === null || files.filter((file) => known.has(nameOfObject(file))).length * 2 < files.length) {
      await unpack(source.whole(), into);
      return folders && files;
    }
    for (const folder of folders.keys()) await mkdir(join(into, folder), { mode: 0o755 });
    const missing: TreeFile[] = [];
    for (const [at, file] of files.entries()) {
      if (at % atATime === 0) await setImmediate();
      if (!linked(file, into)) missing.push(file);
    }
    if (missing.length) {
      const fetched = `${into}.some`;
      await removeTree(fetched);
      await mkdir(fetched, { mode: 0o700 });
      await unpack(source.some([...new Set(missing.map(nameOfObject))]), fetched);
      for (const file of missing) linkSync(join(fetched, nameOfObject(file)), join(into, file.path));
      void removeTree(fetched);
    }
    for (const [folder, time] of [...folders].reverse()) {
      const place = join(into, folder);
      if (account) await lchown(place, account.uid, account.gid);
      await utimes(place, time, time);
    }
    return files;
  }
  return {
    fill,
    learn(folder, files) {
      if (known.size + files.length > mostKnown) known.clear();
      for (const file of files.slice(0, mostKnown)) known.set(nameOfObject(file), { folder, path: file.path });
    },
  };
}

/** The folders of these files, each with its time, what lies around it first; null where a path is unsafe, or stands there twice. */
function foldersOf(files: readonly TreeFile[]): Map<string, Date> | null {
  const paths = new Set<string>();
  const folders = new Map<string, Date>();
  for (const { path, id } of files) {
    if (unsafePath(path) || paths.has(path)) return null;
    paths.add(path);
    for (let at = path.indexOf('/'); at >= 0; at = path.indexOf('/', at + 1))
      if (!folders.has(path.slice(0, at))) folders.set(path.slice(0, at), timeOfObject(id));
  }
  return [...folders.keys()].some((folder) => paths.has(folder)) ? null : folders;
}
