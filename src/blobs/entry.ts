/** One file of a stored layer, without unpacking it. */
import type { Readable } from 'node:stream';
import { extract } from 'tar-stream';

/** The text of a file in a tar, or null where it is not there, is no plain file, or is larger than `limit` bytes. */
export async function entryText(tar: Readable, path: string, limit: number): Promise<string | null> {
  const entries = extract();
  tar.on('error', (error: Error) => entries.destroy(error));
  tar.pipe(entries as unknown as NodeJS.WritableStream);
  try {
    for await (const entry of entries) {
      const { name, type, size } = entry.header;
      if (name.replace(/^\.\//, '') !== path || type !== 'file' || (size ?? 0) > limit) {
        entry.resume();
        continue;
      }
      const parts: Buffer[] = [];
      for await (const chunk of entry) parts.push(chunk as Buffer);
      return Buffer.concat(parts).toString('utf8');
    }
    return null;
  } finally {
    tar.destroy();
  }
}
