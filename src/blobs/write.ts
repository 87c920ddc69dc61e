/** Writes a stream into a file, hashed as it comes, while another reader looks at the same bytes. */
import { createHash } from 'node:crypto';
import { createWriteStream } from 'node:fs';
import { PassThrough, type Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { CodedError } from '../core/errors/errors.js';
import { sizeText } from '../core/sizes.js';

/**
 * Gives digest and length of what was written. `read` gets a copy of the stream; when it throws, the writing ends and that is
 * thrown. Past `limit` bytes: `output_too_large`.
 */
export async function writeLayer(
  stream: Readable,
  path: string,
  read?: (copy: Readable) => Promise<unknown>,
  limit = Number.POSITIVE_INFINITY,
): Promise<{ digest: string; bytes: number }> {
  const hash = createHash('sha256');
  const copy = read ? new PassThrough() : null;
  let bytes = 0;
  let refused: unknown = null;
  const passing = new Transform({
    transform(chunk: Buffer, _encoding, done) {
      hash.update(chunk);
      bytes += chunk.length;
      if (bytes > limit) return done(new CodedError('output_too_large', { limit: sizeText(limit) }));
      if (refused) return done(refused as Error);
      if (!copy || copy.write(chunk)) return done(null, chunk);
      // The slower of the two readers sets the pace; one that has given up sets none.
      const go = () => {
        copy.off('drain', go).off('close', go);
        done(null, chunk);
      };
      copy.on('drain', go).on('close', go);
    },
    flush(done) {
      copy?.end();
      done();
    },
    destroy(error, done) {
      copy?.destroy(error ?? undefined);
      done(error);
    },
  });
  copy?.on('error', () => {});
  const reading = copy && read ? read(copy).catch((error: unknown) => void (refused = error)) : null;
  try {
    await pipeline(stream, passing, createWriteStream(path, { mode: 0o600 }));
  } catch (error) {
    await reading;
    throw refused && !(error instanceof CodedError) ? refused : error;
  }
  await reading;
  if (refused) throw refused;
  return { digest: `sha256:${hash.digest('hex')}`, bytes };
}
