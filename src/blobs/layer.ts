/**
 * A layer (tar: POSIX ustar with pax headers, and GNU's long names) read whole, entry by entry. The one place that says which
 * entries may be: whoever keeps, unpacks or serves a layer reads it through this.
 */
import { posix } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { extract, type Header } from 'tar-stream';
import { CodedError } from '../core/errors/errors.js';
import { unsafePath } from '../core/paths.js';
import { sizeText } from '../core/sizes.js';

export interface LayerBounds {
  /** Entries at most. */
  entries: number;
  /** Bytes of all files together at most. */
  bytes: number;
  /** Folders in each other at most. */
  depth: number;
}

export const layerBounds: LayerBounds = { entries: 500_000, bytes: 8 * 1024 ** 3, depth: 200 };

export type EntryKind = 'file' | 'directory' | 'symlink' | 'link';

export interface LayerEntry {
  /** Relative, without `./` and a last slash; empty for the folder itself. */
  path: string;
  kind: EntryKind;
  size: number;
  executable: boolean;
  /** Target of a link. */
  target: string;
  mtime: Date;
}

export interface LayerFacts {
  entries: number;
  bytes: number;
}

export const modeOf = (entry: Pick<LayerEntry, 'kind' | 'executable'>): number =>
  entry.kind === 'directory' || entry.executable ? 0o755 : 0o644;

/**
 * Reads a layer to its end and gives each entry to `take`, which reads or resumes the body. Throws `output_unsafe` where an entry
 * would leave the folder, lies behind a link, or is neither file, folder nor link; `output_broken` where the bytes are no whole
 * layer; `output_too_large` past the bounds; and what the source or `take` throws. Nobody has to listen to a stream besides.
 */
export async function readLayer(
  layer: Readable,
  take: (entry: LayerEntry, body: Readable) => Promise<void>,
  bounds: LayerBounds = layerBounds,
): Promise<LayerFacts> {
  const incoming = extract();
  const facts: LayerFacts = { entries: 0, bytes: 0 };
  const judge = makeJudge(bounds, facts);
  let cut: Error | null = null;
  layer.on('error', (error: NodeJS.ErrnoException) => {
    // That it is read no further is no failure of its own.
    if (error.code !== 'ERR_STREAM_PREMATURE_CLOSE') cut = error;
  });
  const feeding = pipeline(layer, incoming);
  // A body that breaks off while `take` does something else is not heard of any more when it listens: this is.
  const broken = new Promise<never>((_resolve, reject) => void feeding.catch(reject));
  broken.catch(() => {});
  try {
    for await (const body of incoming) {
      const stream = body as unknown as Readable;
      await Promise.race([take(judge(body.header), stream), broken]);
      stream.resume();
    }
    await feeding;
    return facts;
  } catch (error) {
    // What the source says for itself; ending it here makes it say something, too.
    const source = cut;
    incoming.destroy();
    layer.destroy();
    await feeding.catch(() => {});
    if (source) throw source;
    // What the reader of tars itself says is about the bytes; everything else comes from `take`.
    throw /^(Unexpected end of data|Invalid tar header|Invalid header|Header exceeds max size)/.test(
      (error as Error).message ?? '',
    )
      ? new CodedError('output_broken', { detail: (error as Error).message.slice(0, 100) }, error)
      : error;
  }
}

/** Reads a layer whole and keeps nothing of it. */
export const checkLayer = (layer: Readable, bounds: LayerBounds = layerBounds): Promise<LayerFacts> =>
  readLayer(layer, async (_entry, body) => void body.resume(), bounds);

function makeJudge(bounds: LayerBounds, facts: LayerFacts): (header: Header) => LayerEntry {
  /** Links seen so far, and plain files: what a hard link may name. */
  const links = new Set<string>();
  const files = new Set<string>();
  return (header) => {
    const path = header.name.replace(/^(\.\/)+/, '').replace(/\/+$/, '');
    const refuse = (why: string) => new CodedError('output_unsafe', { path: header.name.slice(0, 200), why });
    const plain = path === '' || path === '.';
    const why = plain ? null : (unsafePath(path) ?? behindLink(path, links));
    if (why) throw refuse(why);
    const kind = kindOf(header.type);
    if (!kind) throw refuse(`it is a ${header.type ?? 'thing of unknown kind'}`);
    if (plain && kind !== 'directory') throw refuse('it has no name');
    const size = kind === 'file' ? (header.size ?? 0) : 0;
    facts.entries++;
    facts.bytes += size;
    if (facts.entries > bounds.entries)
      throw new CodedError('output_too_large', { limit: `${bounds.entries} entries` });
    if (facts.bytes > bounds.bytes) throw new CodedError('output_too_large', { limit: sizeText(bounds.bytes) });
    if (path.split('/').length > bounds.depth) throw refuse(`more than ${bounds.depth} folders lie in each other`);
    const target = header.linkname ?? '';
    // A hard link is made through whatever it names: only a file of this very layer may be that.
    const named = kind === 'link' ? posix.normalize(target.replace(/^(\.\/)+/, '')) : '';
    if (kind === 'link' && (!files.has(named) || behindLink(named, links)))
      throw refuse('its hard link names no file of the same output');
    if (kind === 'symlink' && (target === '' || target.includes('\0') || Buffer.byteLength(target) > 4_000))
      throw refuse('its link leads nowhere');
    if (kind === 'symlink') links.add(path);
    else links.delete(path);
    if (kind === 'file' || kind === 'link') files.add(path);
    else files.delete(path);
    return {
      path: plain ? '' : path,
      kind,
      size,
      executable: ((header.mode ?? 0) & 0o100) !== 0,
      target: kind === 'link' ? named : target,
      mtime: header.mtime ?? new Date(0),
    };
  };
}

function kindOf(type: Header['type']): EntryKind | null {
  if (type === 'contiguous-file') return 'file';
  return type === 'file' || type === 'directory' || type === 'symlink' || type === 'link' ? type : null;
}

/** An entry below a link would be written wherever the link leads. */
function behindLink(path: string, links: ReadonlySet<string>): string | null {
  for (let at = path.indexOf('/'); at >= 0; at = path.indexOf('/', at + 1))
    if (links.has(path.slice(0, at))) return 'it lies behind a link';
  return null;
}

/** Time of a laid-out output, derived from its digest: 2010 to 2019. */
export function timeOfDigest(digest: string): Date {
  const tenYears = 10 * 365 * 86_400;
  return new Date(
    (1_262_304_000 + (Number.parseInt(digest.replace('sha256:', '').slice(0, 12), 16) % tenYears)) * 1000,
  );
}
