/** Files of a commit as a layer: a tar whose bytes depend on the files alone. */
import type { Readable } from 'node:stream';
import { pack } from 'tar-stream';
import { sha256 } from '../core/canonical.js';
import type { TreeFile } from '../core/fingerprint/inputs.js';
import { readObjects } from './repository.js';

/**
 * Modification time of a laid-out file, derived from its object id: 2001 to 2009, so that tools which compare times see a
 * change when there is one and only then.
 */
export function timeOfObject(id: string): Date {
  const nineYears = 9 * 365 * 86_400;
  return new Date((978_307_200 + (Number.parseInt(id.slice(0, 12), 16) % nineYears)) * 1000);
}

/** What identifies a set of files: equal keys, equal layers. */
export const layerKey = (files: readonly TreeFile[]): string =>
  sha256(
    sorted(files)
      .map((file) => `${file.mode} ${file.id} ${file.path}\n`)
      .join(''),
  );

/** Streams the layer. Files are the raw objects; links are kept as links. */
export function layerOf(repository: string, files: readonly TreeFile[]): Readable {
  const tar = pack();
  const ordered = sorted(files);
  const fill = async (): Promise<void> => {
    let at = 0;
    for await (const body of readObjects(
      repository,
      ordered.map((file) => file.id),
    )) {
      const file = ordered[at++] as TreeFile;
      const mtime = timeOfObject(file.id);
      if (file.mode === '120000') await put({ name: file.path, type: 'symlink', linkname: body.toString('utf8'), mtime, mode: 0o777 }, null);
      else await put({ name: file.path, size: body.length, mtime, mode: file.mode === '100755' ? 0o755 : 0o644 }, body);
    }
    tar.finalize();
  };
  const put = (header: Parameters<typeof tar.entry>[0], body: Buffer | null): Promise<void> =>
    new Promise((resolve, reject) => {
      const done = (error?: Error | null) => (error ? reject(error) : resolve());
      if (body) tar.entry({ uid: 0, gid: 0, ...header }, body, done);
      else tar.entry({ uid: 0, gid: 0, ...header }, done);
    });
  if (ordered.length === 0) tar.finalize();
  else fill().catch((error: Error) => tar.destroy(error));
  return tar as unknown as Readable;
}

const sorted = (files: readonly TreeFile[]): TreeFile[] => [...files].sort((a, b) => (a.path < b.path ? -1 : a.path > b.path ? 1 : 0));
