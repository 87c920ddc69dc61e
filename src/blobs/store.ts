/** Bytes by digest, as an OCI image layout (OCI Image Format Specification 1.1): `blobs/sha256/HEX` beside `oci-layout`. */
import { createHash, randomUUID } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { mkdir, open, opendir, rename, rm, stat, utimes, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { CodedError } from '../core/errors/errors.js';
import type { Blob } from '../core/release/image.js';
import { checkLayer } from './layer.js';
import { writeLayer } from './write.js';

export interface BlobStore {
  folder: string;
  /** Stores a stream; with `expected`, other bytes are refused and nothing is kept. Stored bytes are on disk when it returns. */
  put(stream: Readable, expected?: string): Promise<Blob>;
  /** Stores a layer, if all its entries may be (`readLayer`). */
  putLayer(stream: Readable, expected?: string): Promise<Blob>;
  putText(text: string): Promise<Blob>;
  open(digest: string): Promise<{ size: number; stream: Readable } | null>;
  size(digest: string): Promise<number | null>;
  /**
   * Whether the bytes are there with this size (small ones: with this digest), and marks them as used now, so that the upkeep of
   * space leaves them alone.
   */
  intact(digest: string, size: number): Promise<boolean>;
  /** Whether the bytes are what their digest says. */
  verify(digest: string): Promise<boolean>;
  remove(digest: string): Promise<void>;
  /** Stored bytes that were not used since `time` (milliseconds since the epoch). */
  olderThan(time: number): AsyncGenerator<string>;
  /** Removes what was never finished, where nothing was written to it since `time`. */
  dropUnfinished(time: number): Promise<void>;
  /** A new file beside the stored bytes, for what is looked at before it is stored. */
  unfinished(): string;
  /** When bytes were stored or marked as used, or null. */
  usedAt(digest: string): Promise<number | null>;
  path(digest: string): string;
}

/** Bytes up to which an output is hashed each time it is to be used again. */
const smallBytes = 256 * 1024;

export const isDigest = (text: string): boolean => /^sha256:[0-9a-f]{64}$/.test(text);

export async function openBlobs(folder: string): Promise<BlobStore> {
  const blobs = join(folder, 'blobs', 'sha256');
  const incoming = join(folder, 'incoming');
  await mkdir(folder, { recursive: true, mode: 0o700 });
  await mkdir(blobs, { recursive: true });
  await mkdir(incoming, { recursive: true });
  await writeFile(join(folder, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  const path = (digest: string): string => {
    if (!isDigest(digest))
      throw new CodedError('not_found', {
        what: 'This digest',
        hint: 'A digest is sha256: and 64 hexadecimal digits.',
      });
    return join(blobs, digest.slice('sha256:'.length));
  };
  const size = async (digest: string) => (await stat(path(digest)).catch(() => null))?.size ?? null;
  const usedAt = async (digest: string) => (await stat(path(digest)).catch(() => null))?.mtimeMs ?? null;
  const put = async (
    stream: Readable,
    expected?: string,
    read?: (copy: Readable) => Promise<unknown>,
  ): Promise<Blob> => {
    const fresh = join(incoming, randomUUID());
    try {
      const { digest, bytes } = await writeLayer(stream, fresh, read);
      if (expected && expected !== digest) throw new CodedError('digest_wrong', { digest: expected });
      const file = await open(fresh, 'r');
      await file.sync().finally(() => file.close());
      await rename(fresh, path(digest));
      // Its name too is there after the machine has stopped hard.
      const names = await open(blobs, 'r');
      await names.sync().finally(() => names.close());
      return { digest, size: bytes };
    } finally {
      await rm(fresh, { force: true });
    }
  };
  const verify = async (digest: string): Promise<boolean> => {
    const hash = createHash('sha256');
    try {
      await pipeline(createReadStream(path(digest)), hash);
    } catch {
      return false;
    }
    return `sha256:${hash.digest('hex')}` === digest;
  };
  return {
    folder,
    put: (stream, expected) => put(stream, expected),
    putLayer: (stream, expected) => put(stream, expected, checkLayer),
    putText: (text) => put(Readable.from([Buffer.from(text)])),
    open: async (digest) => {
      const found = await size(digest);
      return found === null ? null : { size: found, stream: createReadStream(path(digest)) };
    },
    size,
    async intact(digest, expected) {
      const now = new Date();
      if (
        !(await utimes(path(digest), now, now).then(
          () => true,
          () => false,
        ))
      )
        return false;
      return (await size(digest)) === expected && (expected > smallBytes || (await verify(digest)));
    },
    verify,
    remove: (digest) => rm(path(digest), { force: true }),
    async *olderThan(time) {
      for await (const { name } of await opendir(blobs)) {
        const digest = `sha256:${name}`;
        if (isDigest(digest) && ((await usedAt(digest)) ?? time) < time) yield digest;
      }
    },
    async dropUnfinished(time) {
      for await (const { name } of await opendir(incoming)) {
        const file = join(incoming, name);
        if (((await stat(file).catch(() => null))?.mtimeMs ?? time) < time) await rm(file, { force: true });
      }
    },
    unfinished: () => join(incoming, randomUUID()),
    usedAt,
    path,
  };
}
