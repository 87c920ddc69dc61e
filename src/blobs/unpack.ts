/** Unpacks a layer into an empty folder through the system's tar, which gets only what has been checked and written anew. */
import { spawn } from 'node:child_process';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { pack } from 'tar-stream';
import { CodedError } from '../core/errors/errors.js';
import { type LayerBounds, type LayerEntry, layerBounds, readLayer } from './layer.js';

export interface UnpackOptions {
  /** Folder that exists. */
  into: string;
  /** Account that owns what is unpacked; only root can give it. Default: who calls. */
  owner?: { uid: number; gid: number } | null;
  /** Time for every entry; default: what the layer says. */
  time?: Date;
  /** Whether links are kept; a server of files leaves them out. */
  links: boolean;
  bounds?: LayerBounds;
}

/** Throws what `readLayer` throws, and `setup_failed` where tar could not write. Modes are 755 and 644, whatever the layer says. */
export async function unpackLayer(layer: Readable, options: UnpackOptions): Promise<void> {
  const owned = options.owner ? ['--same-owner', '--numeric-owner'] : ['--no-same-owner'];
  const child = spawn('tar', ['-x', ...owned, '-p', '--delay-directory-restore', '-f', '-'], {
    cwd: options.into,
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
    const exit = await ended;
    // A tar that ended by itself says better why than the pipe to it.
    if (exit !== null && !(error instanceof CodedError) && (error as NodeJS.ErrnoException).code === 'EPIPE')
      throw unpackFailed(errors, exit);
    throw error;
  }
  const exit = await ended;
  if (exit !== 0) throw unpackFailed(errors, exit);
}

const unpackFailed = (errors: string, exit: number | null) =>
  new CodedError('setup_failed', { detail: `tar: ${errors.trim() || `exit status ${exit}`}` });

/** Writes the entries anew that may pass. */
async function sift(layer: Readable, into: NodeJS.WritableStream, options: UnpackOptions): Promise<void> {
  const outgoing = pack();
  const folders = new Set<string>();
  const writing = pipeline(outgoing as unknown as Readable, into);
  const broken = new Promise<never>((_resolve, reject) => void writing.catch(reject));
  broken.catch(() => {});
  try {
    await readLayer(
      layer,
      async (entry, body) => {
        if (entry.path === '' || (!options.links && entry.kind !== 'file' && entry.kind !== 'directory'))
          return void body.resume();
        // Folders that the layer does not name would be made by tar as its own, not as the owner's.
        for (let at = entry.path.indexOf('/'); at >= 0; at = entry.path.indexOf('/', at + 1)) {
          const above = entry.path.slice(0, at);
          if (folders.has(above)) continue;
          folders.add(above);
          await Promise.race([
            put(outgoing, { ...entry, path: above, kind: 'directory', size: 0, target: '' }, null, options),
            broken,
          ]);
        }
        if (entry.kind === 'directory') folders.add(entry.path);
        await Promise.race([put(outgoing, entry, body, options), broken]);
      },
      options.bounds ?? layerBounds,
    );
    outgoing.finalize();
    await writing;
  } catch (error) {
    outgoing.destroy();
    await writing.catch(() => {});
    throw error;
  }
}

function put(
  outgoing: ReturnType<typeof pack>,
  entry: LayerEntry,
  body: Readable | null,
  { owner, time }: UnpackOptions,
): Promise<void> {
  const header = {
    name: entry.path,
    type: entry.kind,
    size: entry.size,
    mode: entry.kind === 'directory' || entry.executable ? 0o755 : 0o644,
    ...(entry.target ? { linkname: entry.target } : {}),
    uid: owner?.uid ?? 0,
    gid: owner?.gid ?? 0,
    mtime: time ?? entry.mtime,
  };
  return new Promise((resolve, reject) => {
    const sink = outgoing.entry(header, (error) => (error ? reject(error) : resolve()));
    sink.on('error', reject);
    if (!body) return void (sink as unknown as NodeJS.WritableStream).end();
    body.on('error', reject);
    body.pipe(sink as unknown as NodeJS.WritableStream);
  });
}
