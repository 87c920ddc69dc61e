/** Writes the entries of a small layer by itself: to start a program for them takes longer than they do. */
import { chmodSync, lchownSync, lutimesSync, mkdirSync, symlinkSync, utimesSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { type LayerEntry, modeOf } from './layer.js';

const mostEntries = 64;
const mostBytes = 1024 * 1024;

/** Where what is unpacked goes, and whose it is. */
export interface Placing {
  /** Folder that exists. */
  into: string;
  /** Account that owns what is unpacked; only root can give it. Default: who calls. */
  owner?: { uid: number; gid: number } | null;
  /** Time for every entry; default: what the layer says. */
  time?: Date;
}

export interface FewEntry {
  entry: LayerEntry;
  bytes: Buffer;
}

export interface Few {
  entries: FewEntry[];
  /** False: it is one too many, or of a kind that is left to tar (a hard link, a second entry of one path). */
  take(entry: LayerEntry, body: Readable): Promise<boolean>;
}

export function openFew(): Few {
  const entries: FewEntry[] = [];
  const paths = new Set<string>();
  let size = 0;
  return {
    entries,
    async take(entry, body) {
      size += entry.size;
      if (entry.kind === 'link' || paths.has(entry.path) || paths.size >= mostEntries || size > mostBytes) return false;
      paths.add(entry.path);
      entries.push({ entry, bytes: await buffer(body) });
      return true;
    },
  };
}

/** `readLayer` has let through nothing that leaves the folder or lies behind a link; each path is there once. */
export function writeFew(entries: readonly FewEntry[], { into, owner, time }: Placing): void {
  const folders = new Map<string, Date>();
  const own = (path: string, mtime: Date) => {
    if (owner) lchownSync(path, owner.uid, owner.gid);
    lutimesSync(path, mtime, mtime);
  };
  const makeFolder = (path: string, mtime: Date) => {
    if (folders.has(path)) return;
    folders.set(path, mtime);
    mkdirSync(join(into, path), { mode: 0o755 });
  };
  for (const { entry, bytes } of entries) {
    const { path } = entry;
    const mtime = time ?? entry.mtime;
    for (let at = path.indexOf('/'); at >= 0; at = path.indexOf('/', at + 1)) makeFolder(path.slice(0, at), mtime);
    const place = join(into, path);
    if (entry.kind === 'directory') {
      makeFolder(path, mtime);
      folders.set(path, mtime);
      continue;
    }
    if (entry.kind === 'symlink') symlinkSync(entry.target, place);
    else {
      writeFileSync(place, bytes, { flag: 'wx', mode: modeOf(entry) });
      chmodSync(place, modeOf(entry));
    }
    own(place, mtime);
  }
  // What is made in a folder changes its time.
  for (const [path, mtime] of [...folders].reverse()) {
    const place = join(into, path);
    chmodSync(place, 0o755);
    if (owner) lchownSync(place, owner.uid, owner.gid);
    utimesSync(place, mtime, mtime);
  }
}
