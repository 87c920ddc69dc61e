/** Files of a commit as a layer: a tar whose bytes depend on the files alone. */
import { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { pack } from 'tar-stream';
import { nameOfObject, timeOfObject } from '../core/objects.js';
import { sha256 } from '../core/canonical.js';
import { CodedError } from '../core/errors/errors.js';
import type { TreeFile } from '../core/fingerprint/inputs.js';
import { objectInfo } from './objects.js';
import { readFiles } from './repository.js';

/** What identifies a set of files: equal keys, equal layers. */
export const layerKey = (files: readonly TreeFile[]): string =>
  sha256(
    sorted(files)
      .map((file) => `${file.mode} ${file.id} ${file.path}\n`)
      .join(''),
  );

/** Those of these names (`nameOfObject`), each under its name. Throws `not_found` for one that is none of the files. */
export function someOf(files: readonly TreeFile[], names: readonly string[]): TreeFile[] {
  const byName = new Map(files.map((file) => [nameOfObject(file), file]));
  return [...new Set(names)].map((name) => {
    const file = byName.get(name);
    if (!file) throw new CodedError('not_found', { what: `The file ${name}`, hint: 'The attempt sees other files.' });
    return { ...file, path: name };
  });
}

/** The layer where it has at most `limit` bytes, and null where it would have more. */
export async function smallLayer(
  repository: string,
  files: readonly TreeFile[],
  limit: number,
): Promise<Buffer | null> {
  const infos = await Promise.all(files.map((file) => objectInfo(repository, file.id)));
  // A header and what fills up the last block of each, and the two blocks of the end.
  const size = infos.reduce((sum, one) => sum + 1_024 + (one?.size ?? 0), 1_024);
  return size > limit ? null : buffer(layerOf(repository, files));
}

/** Streams the layer. Files are the raw objects; links are kept as links. */
export function layerOf(repository: string, files: readonly TreeFile[]): Readable {
  const tar = pack();
  const ordered = sorted(files);
  const fill = async (): Promise<void> => {
    let at = 0;
    for await (const { size, body } of readFiles(
      repository,
      ordered.map((file) => file.id),
    )) {
      const file = ordered[at++] as TreeFile;
      const mtime = timeOfObject(file.id);
      if (file.mode === '120000') {
        if (size > linkLimit)
          throw new CodedError('path_unusable', { name: file.path, why: 'it is a link of more than 4,000 bytes' });
        await put(
          { name: file.path, type: 'symlink', linkname: (await whole(body)).toString('utf8'), mtime, mode: 0o777 },
          Buffer.alloc(0),
        );
      } else {
        const header = { name: file.path, size, mtime, mode: file.mode === '100755' ? 0o755 : 0o644 };
        if (size <= atOnce) await put(header, await whole(body));
        else await stream(header, body);
      }
    }
    tar.finalize();
  };
  const put = (header: EntryHeader, body: Buffer): Promise<void> =>
    new Promise((resolve, reject) => {
      tar.entry({ uid: 0, gid: 0, ...header }, body, (error?: Error | null) => (error ? reject(error) : resolve()));
    });
  /** A large file goes piece by piece, no faster than it is read. */
  const stream = (header: EntryHeader, body: AsyncIterable<Buffer>): Promise<void> =>
    new Promise((resolve, reject) => {
      const sink = tar.entry({ uid: 0, gid: 0, ...header }, (error?: Error | null) =>
        error ? reject(error) : resolve(),
      );
      sink.on('error', reject);
      Readable.from(body)
        .on('error', (error) => {
          sink.destroy(error);
          reject(error);
        })
        .pipe(sink as unknown as NodeJS.WritableStream);
    });
  if (ordered.length === 0) tar.finalize();
  else fill().catch((error: Error) => tar.destroy(error));
  return tar as unknown as Readable;
}

type EntryHeader = Parameters<ReturnType<typeof pack>['entry']>[0];

/** Bytes of a file that is held in memory, and of a link's target. */
const atOnce = 1024 * 1024;
const linkLimit = 4_000;

async function whole(body: AsyncIterable<Buffer>): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of body) parts.push(part);
  return parts.length === 1 ? (parts[0] as Buffer) : Buffer.concat(parts);
}

const sorted = (files: readonly TreeFile[]): TreeFile[] =>
  [...files].sort((a, b) => (a.path < b.path ? -1 : a.path > b.path ? 1 : 0));
