/** Unpacked layers, kept once for each digest or set of files; several attempts that need one wait for the same unpacking. */
import { createHash } from 'node:crypto';
import { createReadStream, existsSync, mkdirSync, readdirSync, renameSync, rmSync } from 'node:fs';
import { rename } from 'node:fs/promises';
import { join } from 'node:path';
import { PassThrough, type Readable } from 'node:stream';
import { timeOfDigest, unpackLayer } from '../blobs/unpack.js';
import { CodedError } from '../core/errors.js';
import { ownFolder } from './sandbox/chain.js';
import { type Account, prefixOf } from './sandbox/host.js';

export interface Layers {
  /** The folder of a set of files; `fetch` gives the layer when it is not there yet. */
  files(key: string, fetch: () => Promise<Readable>): Promise<string>;
  /** The folder of a stored layer. */
  output(digest: string, fetch: () => Promise<Readable>): Promise<string>;
  /** Where a stored layer is, when it is here. */
  at(digest: string): string;
  /** Keeps the tar of a layer that was made here, so that it need not be fetched. */
  keep(digest: string, tar: string): Promise<void>;
}

export function openLayers(folder: string, account: Account | null): Layers {
  ownFolder(folder, account, 0o755);
  const tars = join(folder, '..', 'tars');
  mkdirSync(tars, { recursive: true, mode: 0o700 });
  for (const left of readdirSync(folder)) if (left.includes('.')) rmSync(join(folder, left), { recursive: true, force: true });
  const busy = new Map<string, Promise<string>>();

  const once = (name: string, unpack: (into: string) => Promise<void>): Promise<string> => {
    const place = join(folder, name);
    if (existsSync(place)) return Promise.resolve(place);
    const running = busy.get(name);
    if (running) return running;
    const work = (async () => {
      const fresh = `${place}.new`;
      rmSync(fresh, { recursive: true, force: true });
      ownFolder(fresh, account, 0o755);
      await unpack(fresh);
      renameSync(fresh, place);
      return place;
    })().finally(() => busy.delete(name));
    busy.set(name, work);
    return work;
  };
  const as = account ? prefixOf(account) : [];
  const short = (text: string) => text.replace('sha256:', '').slice(0, 32);
  return {
    files: (key, fetch) => once(`f${short(key)}`, async (into) => unpackLayer(await fetch(), { into, as, links: true })),
    output: (digest, fetch) =>
      once(`o${short(digest)}`, async (into) => {
        const kept = join(tars, short(digest));
        const layer = existsSync(kept) ? createReadStream(kept) : await fetch();
        await checked(layer, digest, (stream) => unpackLayer(stream, { into, as, time: timeOfDigest(digest), links: true }));
        rmSync(kept, { force: true });
      }),
    at: (digest) => join(folder, `o${short(digest)}`),
    keep: (digest, tar) => rename(tar, join(tars, short(digest))),
  };
}

/** Passes the bytes on and refuses them at the end when they have another digest. */
async function checked(layer: Readable, digest: string, use: (stream: Readable) => Promise<void>): Promise<void> {
  const hash = createHash('sha256');
  const through = new PassThrough();
  layer.on('data', (chunk: Buffer) => hash.update(chunk));
  layer.on('error', (error) => through.destroy(error));
  layer.pipe(through);
  await use(through);
  if (`sha256:${hash.digest('hex')}` !== digest) throw new CodedError('digest_wrong', { digest });
}
