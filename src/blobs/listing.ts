/** What is in a layer, file by file: path → size, and a digest of what makes it this file. */
import { createHash } from 'node:crypto';
import type { Readable } from 'node:stream';
import { readLayer } from './layer.js';

export interface Listed {
  size: number;
  /** SHA-256, hexadecimal digits. */
  digest: string;
}

/** @throws as `readLayer` */
export async function listLayer(layer: Readable): Promise<Map<string, Listed>> {
  const files = new Map<string, Listed>();
  await readLayer(layer, async (entry, body) => {
    if (entry.kind === 'directory') return void body.resume();
    const hash = createHash('sha256').update(`${entry.kind} ${entry.executable} ${entry.target}\0`);
    for await (const chunk of body) hash.update(chunk as Buffer);
    files.set(entry.path, { size: entry.size, digest: hash.digest('hex') });
  });
  return files;
}
