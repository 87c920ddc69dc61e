/** What the runner inside hands out on descriptors of its own: the outputs, as a layer that is checked while it comes, and the results. */
import { PassThrough, type Readable } from 'node:stream';
import { checkLayer } from '../../blobs/layer.js';
import { writeLayer } from '../../blobs/write.js';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';

export interface Handed {
  /** Whether what stands behind the last byte has come. */
  whole(): boolean;
}

export interface HandedOutput extends Handed {
  /** Digest and length of what was written, or why it is not kept; null where nothing was to come. */
  end(): Promise<{ output: { digest: string; size: number } | null; refusal: Issue | null }>;
}

export interface HandedResults extends Handed {
  /** The bytes of each file; null where there were too many. */
  end(): { results: Buffer | null; coverage: Buffer | null };
}

/** Passes on all but what stands behind the last byte. The other end stays open for longer than it is used: only this tells that it is over. */
function sift(
  stream: Readable,
  behind: Buffer,
  take: (bytes: Buffer) => boolean,
  drained: (go: () => void) => void,
  changed: () => void,
): Handed {
  let held: Buffer = Buffer.alloc(0);
  stream.on('data', (chunk: Buffer) => {
    const all = held.length ? Buffer.concat([held, chunk]) : chunk;
    const ready = all.subarray(0, Math.max(0, all.length - behind.length));
    held = Buffer.from(all.subarray(ready.length));
    if (ready.length && !take(ready)) {
      stream.pause();
      drained(() => stream.resume());
    }
    changed();
  });
  return { whole: () => held.equals(behind) };
}

/** Writes the outputs to `path` where any are declared; `limit` in bytes. `changed` is called when more has come, or it was refused. */
export function takeOutput(
  stream: Readable,
  behind: Buffer,
  path: string | null,
  limit: number,
  changed: () => void,
): HandedOutput {
  const copy = new PassThrough({ highWaterMark: 1024 * 1024 });
  // Its end is seen where it is written. Where nothing is, nobody else listens, and an error without a listener would end the agent.
  copy.on('error', () => {});
  let refusal: Issue | null = null;
  const refuse = (error: unknown): null => {
    refusal =
      error instanceof CodedError
        ? error.issue
        : issue('setup_failed', { detail: String((error as Error).message).slice(0, 300) });
    // Whoever still writes there is told at once.
    stream.destroy();
    changed();
    return null;
  };
  const writing =
    path === null ? Promise.resolve(null) : writeLayer(copy, path, (bytes) => checkLayer(bytes), limit).catch(refuse);
  if (path === null) copy.resume();
  const handed = sift(
    stream,
    behind,
    (bytes) => copy.destroyed || copy.write(bytes),
    (go) => {
      const next = () => {
        copy.off('drain', next).off('close', next);
        go();
      };
      copy.on('drain', next).on('close', next);
    },
    changed,
  );
  return {
    whole: () => refusal !== null || handed.whole(),
    async end() {
      if (handed.whole()) copy.end();
      else copy.destroy(new CodedError('output_broken', { detail: 'it ended before all of it was handed out' }));
      const written = await writing;
      return { output: written && { digest: written.digest, size: written.bytes }, refusal };
    },
  };
}

/** Bytes of one such file; the runner inside hands out no more. */
const resultsLimit = 20_000_000;

/** The results, `between`, the coverage. */
export function takeResults(stream: Readable, between: Buffer, behind: Buffer, changed: () => void): HandedResults {
  const parts: Buffer[] = [];
  let size = 0;
  const handed = sift(
    stream,
    behind,
    (bytes) => {
      size += bytes.length;
      if (size <= resultsLimit * 2) parts.push(bytes);
      return true;
    },
    () => {},
    changed,
  );
  return {
    whole: () => handed.whole(),
    end() {
      const all = size > resultsLimit * 2 ? null : Buffer.concat(parts);
      const at = all?.indexOf(between) ?? -1;
      if (all === null || at < 0) return { results: null, coverage: null };
      return { results: all.subarray(0, at), coverage: all.subarray(at + between.length) };
    },
  };
}
