/** One file of a stored layer, without unpacking it. */
import type { Readable } from 'node:stream';
import { readLayer } from './layer.js';

/** The text of a file in a layer, or null where it is not there, is no plain file, or is larger than `limit` bytes. The last one of its name counts. */
export async function entryText(layer: Readable, path: string, limit: number): Promise<string | null> {
  let text: string | null = null;
  await readLayer(layer, async (entry, body) => {
    if (entry.path !== path) return void body.resume();
    text = null;
    if (entry.kind !== 'file' || entry.size > limit) return void body.resume();
    const parts: Buffer[] = [];
    for await (const chunk of body) parts.push(chunk as Buffer);
    text = Buffer.concat(parts).toString('utf8');
  });
  return text;
}
