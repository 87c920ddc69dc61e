/** Bytes of sites, unpacked once for each part's digest; links are left out, so that nothing of this machine can be served. */
import { rm } from 'node:fs/promises';
import { existsSync, mkdirSync, readdirSync, renameSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { timeOfDigest } from '../blobs/layer.js';
import { unpackLayer } from '../blobs/unpack.js';
import { type Coded, listSite, openCoded, readSite, type SiteFile, type SiteFiles } from './files.js';

export interface Sites {
  has(bytes: string): boolean;
  /** Makes a site's bytes present; several who want the same wait for one unpacking. */
  ready(bytes: string, layers: readonly string[], fetch: (digest: string) => Promise<Readable>): Promise<void>;
  keepOnly(bytes: readonly string[]): void;
  /** A file of a site's bytes, by its whole path in them, and where it lies. */
  file(bytes: string, path: string): { place: string; file: SiteFile } | null;
  coded: Coded;
}

/** How many sites that no table names are kept for a quick way back. */
const spare = 20;

export function openSites(folder: string): Sites {
  const [unpacked, lists] = ['bytes', 'lists'].map((name) => join(folder, name)) as [string, string];
  for (const path of [folder, unpacked, lists]) mkdirSync(path, { recursive: true, mode: 0o700 });
  const coded = openCoded(join(folder, 'coded'));
  // What another version of this program has left here is asked for again.
  for (const name of readdirSync(folder))
    if (!['bytes', 'lists', 'coded'].includes(name)) rmSync(join(folder, name), { recursive: true, force: true });
  const busy = new Map<string, Promise<void>>();
  const known = new Map<string, SiteFiles>();
  const nameOf = (bytes: string) => bytes.replace('sha256:', '').slice(0, 32);
  const listOf = (name: string) => join(lists, `${name}.json`);
  const filesOf = (name: string): SiteFiles | null => {
    const found = known.get(name);
    if (found) return found;
    const files = existsSync(join(unpacked, name)) ? readSite(listOf(name)) : null;
    if (!files) return null;
    known.set(name, files);
    coded.make(join(unpacked, name), files);
    return files;
  };
  return {
    coded,
    has: (bytes) => filesOf(nameOf(bytes)) !== null,
    ready(bytes, layers, fetch) {
      const name = nameOf(bytes);
      if (filesOf(name)) return Promise.resolve();
      const running = busy.get(name);
      if (running) return running;
      const place = join(unpacked, name);
      const work = (async () => {
        const fresh = `${place}.new`;
        for (const path of [fresh, place]) await rm(path, { recursive: true, force: true });
        mkdirSync(fresh, { recursive: true });
        try {
          // The time of every file is that of the part's bytes: a reader's copy is good as long as they are the same.
          for (const digest of layers)
            await unpackLayer(await fetch(digest), { into: fresh, links: false, time: timeOfDigest(bytes) });
          await listSite(fresh, listOf(name));
          renameSync(fresh, place);
        } finally {
          await rm(fresh, { recursive: true, force: true });
        }
        filesOf(name);
      })().finally(() => busy.delete(name));
      busy.set(name, work);
      return work;
    },
    keepOnly(bytes) {
      const kept = new Set(bytes.map(nameOf));
      const idle = readdirSync(unpacked).filter((name) => !kept.has(name) && !name.endsWith('.new'));
      const over = idle.slice(0, Math.max(0, idle.length - spare));
      for (const name of over) {
        known.delete(name);
        rmSync(listOf(name), { force: true });
        rmSync(join(unpacked, name), { recursive: true, force: true });
      }
      if (over.length) coded.keepOnly(readdirSync(unpacked).flatMap((name) => filesOf(name) ?? []));
    },
    file(bytes, path) {
      const name = nameOf(bytes);
      const file = filesOf(name)?.get(path);
      return file ? { place: join(unpacked, name, path), file } : null;
    },
  };
}
