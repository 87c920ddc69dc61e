/** Unpacks a layer into a folder that did not exist, through the system's tar; what would leave the folder never reaches it. */
import { spawn } from 'node:child_process';
import { posix } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { extract, type Header, pack } from 'tar-stream';
import { CodedError } from '../core/errors.js';
import { unsafePath } from '../core/paths.js';

export interface UnpackOptions {
  /** Folder that exists, empty. */
  into: string;
  /** Command that begins the call of tar, to run it as another account. */
  as?: readonly string[];
  /** Time for every entry; default: what the layer says. */
  time?: Date;
  /** Whether links are kept; a server of files leaves them out. */
  links: boolean;
}

/** Throws `output_unsafe` when an entry would leave the folder or is a device. */
export async function unpackLayer(layer: Readable, options: UnpackOptions): Promise<void> {
  const [command = 'tar', ...before] = [...(options.as ?? []), 'tar'];
  const child = spawn(command, [...before, '-x', '--no-same-owner', '--delay-directory-restore', '-f', '-', '-C', options.into], {
    stdio: ['pipe', 'ignore', 'pipe'],
    env: { PATH: process.env.PATH, LC_ALL: 'C' },
  });
  let errors = '';
  child.stderr.on('data', (chunk: Buffer) => {
    errors = (errors + chunk).slice(-500);
  });
  const ended = new Promise<number | null>((resolve, reject) => {
    child.on('error', reject);
    child.on('close', resolve);
  });
  ended.catch(() => {});
  try {
    await sift(layer, child.stdin, options);
  } catch (error) {
    child.kill('SIGKILL');
    await ended;
    throw error;
  }
  const exit = await ended;
  if (exit !== 0) throw new CodedError('setup_failed', { detail: `tar: ${errors.trim() || `exit status ${exit}`}` });
}

/** Copies the entries that may pass. */
async function sift(layer: Readable, into: NodeJS.WritableStream, options: UnpackOptions): Promise<void> {
  const incoming = extract();
  const outgoing = pack();
  const links = new Set<string>();
  incoming.on('entry', (header, stream, next) => {
    // A refusal destroys the entry at hand, too; what it was is told once, by the whole.
    stream.on('error', () => {});
    const refused = refusal(header) ?? throughLink(header.name, links);
    if (header.type === 'symlink') links.add(header.name.replace(/\/$/, ''));
    if (refused) {
      incoming.destroy(new CodedError('output_unsafe', { path: header.name.slice(0, 200), why: refused }));
      return;
    }
    if (!options.links && (header.type === 'symlink' || header.type === 'link')) {
      stream.on('end', next);
      stream.resume();
      return;
    }
    // Owner and time are ours; names, sizes and modes stay.
    const { name, size, mode, type, linkname } = header;
    const clean = { name, size, mode, type, linkname, uid: 0, gid: 0, mtime: options.time ?? header.mtime ?? new Date(0) };
    const entry = outgoing.entry(clean, (error) => (error ? incoming.destroy(error) : next()));
    stream.pipe(entry);
  });
  incoming.on('finish', () => outgoing.finalize());
  incoming.on('error', (error: Error) => outgoing.destroy(error));
  outgoing.on('error', () => {});
  await Promise.all([pipeline(layer, incoming), pipeline(outgoing as unknown as Readable, into)]);
}

function refusal({ name, type, linkname }: Header): string | null {
  const path = name.replace(/^\.\//, '').replace(/\/$/, '');
  if (path !== '' && path !== '.') {
    const why = unsafePath(path);
    if (why) return why;
  }
  switch (type) {
    case 'file':
    case 'contiguous-file':
    case 'directory':
      return null;
    case 'symlink':
      return null;
    case 'link':
      return linkname && unsafePath(posix.normalize(linkname)) === null ? null : 'its hard link leaves the folder';
    default:
      return `it is a ${type ?? 'thing of unknown kind'}`;
  }
}

/** An entry below a link would be written wherever the link leads. */
function throughLink(name: string, links: ReadonlySet<string>): string | null {
  for (let at = name.indexOf('/'); at >= 0; at = name.indexOf('/', at + 1)) if (links.has(name.slice(0, at))) return 'it lies behind a link';
  return null;
}

/** Time of a laid-out output, derived from its digest: 2010 to 2019. */
export function timeOfDigest(digest: string): Date {
  const tenYears = 10 * 365 * 86_400;
  return new Date((1_262_304_000 + (Number.parseInt(digest.replace('sha256:', '').slice(0, 12), 16) % tenYears)) * 1000);
}
