/**
 * What is in a site: path → the digest of its content, made once when its bytes arrive. The edge answers what stands here and nothing
 * else, so no path can lead out of it. Smaller forms of a content (brotli, gzip) are made once, whichever sites have it.
 */
import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream, mkdirSync, readdirSync, renameSync, rmSync, statSync } from 'node:fs';
import { readdir, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { setImmediate } from 'node:timers/promises';
import { constants, createBrotliCompress, createGzip } from 'node:zlib';
import { mime } from '@fastify/send';
import { type Static, Type } from '@sinclair/typebox';
import Negotiator from 'negotiator';
import { readKept, writeKept } from '../wire/rooms/kept.js';

const SiteFile = Type.Object({ digest: Type.String(), size: Type.Integer() });
export type SiteFile = Static<typeof SiteFile>;
const Listed = Type.Record(Type.String(), SiteFile);

/** Paths below the site's bytes, without a slash before them. */
export type SiteFiles = ReadonlyMap<string, SiteFile>;

/** Coded forms, the smaller first, with the endings of their files. */
const codings = [
  { name: 'br', ending: '.br' },
  { name: 'gzip', ending: '.gz' },
] as const;
export type Coding = (typeof codings)[number]['name'];

/** Bytes of what is worth a smaller form: below it the headers weigh more, above it the making. */
const codedFrom = 1_024;
const codedTo = 16 * 1024 * 1024;
const text =
  /^(text\/|application\/(javascript|json|manifest\+json|xml|wasm|[a-z.+-]+\+(json|xml))$|image\/(svg\+xml|x-icon|bmp)$|font\/(ttf|otf))/;

/** Media type with the charset that texts have here; scripts as RFC 9239 names them. */
export const typeOf = (path: string): string => {
  const type = /\.[cm]?js$/.test(path) ? 'text/javascript' : (mime.getType(path) ?? 'application/octet-stream');
  return /^text\/|\/(javascript|json)$|\+(json|xml)$/.test(type) ? `${type}; charset=utf-8` : type;
};

export const mayBeCoded = (path: string, { size }: SiteFile): boolean =>
  size >= codedFrom && size <= codedTo && text.test(typeOf(path).split(';')[0] as string);

/** Bytes of a file that is read whole: streams cost more than small files do. */
const atOnce = 1024 * 1024;

/** Lists a folder and writes the list to `file`. */
export async function listSite(folder: string, file: string): Promise<SiteFiles> {
  const found: Record<string, SiteFile> = {};
  for (const entry of await readdir(folder, { withFileTypes: true, recursive: true })) {
    if (!entry.isFile()) continue;
    const place = join(entry.parentPath, entry.name);
    const { size } = statSync(place);
    const hash = createHash('sha256');
    if (size <= atOnce) hash.update(await readFile(place));
    else await pipeline(createReadStream(place), hash);
    found[place.slice(folder.length + 1)] = { digest: hash.digest('hex'), size };
  }
  writeKept(file, found);
  return new Map(Object.entries(found));
}

export function readSite(file: string): SiteFiles | null {
  const kept = readKept(file, Listed);
  return kept && new Map(Object.entries(kept));
}

/** What its types leave out (negotiator 1.0): which of equal weights comes first. */
interface Weighed {
  encodings(available: string[], options?: { preferred: string[] }): string[];
}

export interface Coded {
  /** The smallest form of this content that a reader takes, as it is here; null: none. */
  find(digest: string, accepted: string | undefined): { place: string; coding: Coding } | null;
  /** Makes the smaller forms of a site's files, one after another, in the background. */
  make(folder: string, files: SiteFiles): void;
  /** Removes the forms of contents that none of these has. */
  keepOnly(files: readonly SiteFiles[]): void;
}

export function openCoded(folder: string): Coded {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  for (const name of readdirSync(folder)) if (name.endsWith('.new')) rmSync(join(folder, name), { force: true });
  /** Name of a form's file → its bytes; 0: it would be no smaller. */
  const here = new Map(readdirSync(folder).map((name) => [name, statSync(join(folder, name)).size]));
  let making: Promise<void> = Promise.resolve();
  const makeOne = async (from: string, { digest, size }: SiteFile): Promise<void> => {
    for (const { name, ending } of codings) {
      const place = join(folder, digest + ending);
      if (here.has(digest + ending)) continue;
      const coder =
        name === 'br'
          ? createBrotliCompress({
              params: {
                [constants.BROTLI_PARAM_QUALITY]: size > 1024 * 1024 ? 5 : 9,
                [constants.BROTLI_PARAM_SIZE_HINT]: size,
              },
            })
          : createGzip({ level: 9 });
      await pipeline(createReadStream(from), coder, createWriteStream(`${place}.new`, { mode: 0o600 }));
      // One that is no smaller is not kept; that it was tried is seen by its being empty.
      if (statSync(`${place}.new`).size >= size) await pipeline([], createWriteStream(`${place}.new`));
      renameSync(`${place}.new`, place);
      here.set(digest + ending, statSync(place).size);
      await setImmediate();
    }
  };
  return {
    find(digest, accepted) {
      const there = codings.filter(({ ending }) => here.get(digest + ending));
      if (there.length === 0) return null;
      // As the reader weighs them (RFC 9110, 12.5.3). Of equal weights the smaller form counts.
      const names: string[] = there.map(({ name }) => name);
      const wanted: Weighed = new Negotiator({ headers: { 'accept-encoding': accepted } });
      const [best] = wanted.encodings([...names, 'identity'], { preferred: names });
      const found = there.find(({ name }) => name === best);
      return found ? { place: join(folder, digest + found.ending), coding: found.name } : null;
    },
    make(from, files) {
      making = making.then(async () => {
        for (const [path, file] of files)
          if (mayBeCoded(path, file)) await makeOne(join(from, path), file).catch(() => {});
      });
    },
    keepOnly(sites) {
      const wanted = new Set(sites.flatMap((files) => [...files.values()].map((file) => file.digest)));
      for (const name of here.keys()) {
        if (wanted.has(name.slice(0, 64))) continue;
        here.delete(name);
        rmSync(join(folder, name), { force: true });
      }
    },
  };
}
