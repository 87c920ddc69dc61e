/** An export (a tar of an OCI image layout) read whole: each blob hashed, what may be a document kept. */
import { createHash } from 'node:crypto';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { extract } from 'tar-stream';
import { CodedError } from '../core/errors/errors.js';
import { layoutBounds, layoutText, type StoredBlob } from '../core/release/layout.js';

const blobName = /^blobs\/sha256\/([0-9a-f]{64})$/;
const folders = ['', '.', 'blobs', 'blobs/sha256'];

const broken = (why: string, error?: unknown) => new CodedError('export_broken', { why }, error);

/** Gives each file of an export: its digest, or null for the two that are no blobs. Throws `export_broken`, and what `take` throws. */
async function eachFile(
  stream: Readable,
  take: (file: { name: string; digest: string | null; size: number }, body: Readable) => Promise<unknown>,
): Promise<void> {
  const incoming = extract();
  const feeding = pipeline(stream, incoming);
  feeding.catch(() => {});
  try {
    for await (const entry of incoming) {
      const { header } = entry;
      const body = entry as unknown as Readable;
      const name = header.name.replace(/^\.\//, '').replace(/\/+$/, '');
      const blob = blobName.exec(name)?.[1];
      if (header.type === 'file' && (blob || name === 'index.json' || name === 'oci-layout'))
        await take({ name, digest: blob ? `sha256:${blob}` : null, size: header.size ?? 0 }, body);
      else if (header.type !== 'directory' || !folders.includes(name))
        throw broken(`it holds ${JSON.stringify(header.name.slice(0, 100))}, which has no place in it`);
      body.resume();
    }
    await feeding;
  } catch (error) {
    incoming.destroy();
    stream.destroy();
    await feeding.catch(() => {});
    throw error instanceof CodedError
      ? error
      : broken(`it is no whole tar (${(error as Error).message.slice(0, 100)})`, error);
  }
}

export interface ReadExport {
  /** Text of `index.json`. */
  index: string;
  blobs: Map<string, StoredBlob>;
}

/** Reads an export to its end. @throws `export_broken` where it is no layout alone, or a blob is not what its name says */
export async function readExport(stream: Readable): Promise<ReadExport> {
  const blobs: ReadExport['blobs'] = new Map();
  let index: string | null = null;
  const seen = new Set<string>();
  let kept = 0;
  await eachFile(stream, async ({ name, digest, size }, body) => {
    if (digest === null && size > layoutBounds.document)
      throw broken(`${name} is longer than ${layoutBounds.document} bytes`);
    if (digest !== null && blobs.has(digest)) throw broken(`${digest} is there twice`);
    if (blobs.size >= layoutBounds.blobs) throw broken(`it holds more than ${layoutBounds.blobs} blobs`);
    const hash = createHash('sha256');
    const parts: Buffer[] = [];
    let document = size <= layoutBounds.document;
    for await (const chunk of body as AsyncIterable<Buffer>) {
      hash.update(chunk);
      // A document is an object of JSON; a layer begins with the name of its first entry.
      if (parts.length === 0 && chunk[0] !== 0x7b) document = false;
      if (document) parts.push(chunk);
    }
    const text = document ? Buffer.concat(parts).toString('utf8') : null;
    if (digest === null) {
      if (seen.has(name)) throw broken(`${name} is there twice`);
      seen.add(name);
      if (name === 'index.json') index = text ?? '';
      else if (text !== layoutText) throw broken('its layout is of another version than 1.0.0');
      return;
    }
    if (`sha256:${hash.digest('hex')}` !== digest) throw broken(`${digest} holds other bytes than its name says`);
    kept += text === null ? 0 : size;
    if (kept > layoutBounds.documents) throw broken('its documents are too long');
    blobs.set(digest, { size, text });
  });
  if (index === null) throw broken('it has no index.json');
  if (!seen.has('oci-layout')) throw broken('it has no oci-layout');
  return { index, blobs };
}

/** Gives the bytes of these blobs, from an export that was read before. */
export const takeBlobs = (
  stream: Readable,
  digests: ReadonlySet<string>,
  take: (digest: string, body: Readable) => Promise<unknown>,
): Promise<void> =>
  eachFile(stream, async ({ digest }, body) => {
    if (digest !== null && digests.has(digest)) await take(digest, body);
  });
