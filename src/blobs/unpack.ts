/** Unpacks a layer into an empty folder through the system's tar, which gets only what has been checked and written anew. */
import { spawn } from 'node:child_process';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { pack } from 'tar-stream';
import { CodedError } from '../core/errors/errors.js';
import { openFew, type Placing, writeFew } from './few.js';
import { type LayerBounds, type LayerEntry, layerBounds, modeOf, readLayer } from './layer.js';

export interface UnpackOptions extends Placing {
  /** Whether links are kept; a server of files leaves them out. */
  links: boolean;
  bounds?: LayerBounds;
}

/** Throws what `readLayer` throws, and `setup_failed` where tar could not write. Modes are 755 and 644, whatever the layer says. */
export async function unpackLayer(layer: Readable, options: UnpackOptions): Promise<void> {
  const few = openFew();
  let tar: Extraction | null = null;
  try {
    await readLayer(
      layer,
      async (entry, body) => {
        if (entry.path === '' || (!options.links && entry.kind !== 'file' && entry.kind !== 'directory'))
          return void body.resume();
        if (!tar) {
          if (await few.take(entry, body)) return;
          tar = startTar(options);
          for (const one of few.entries.splice(0)) await tar.put(one.entry, Readable.from(one.bytes));
        }
        await tar.put(entry, body);
      },
      options.bounds ?? layerBounds,
    );
  } catch (error) {
    throw (await (tar as Extraction | null)?.givenUp(error)) ?? error;
  }
  if (tar) await (tar as Extraction).end();
  else
    try {
      writeFew(few.entries, options);
    } catch (error) {
      throw new CodedError('setup_failed', { detail: (error as Error).message.slice(0, 300) }, error);
    }
}

interface Extraction {
  put(entry: LayerEntry, body: Readable): Promise<void>;
  /** Resolves when all is written. */
  end(): Promise<void>;
  /** Ends it; gives what to throw for this error. */
  givenUp(error: unknown): Promise<unknown>;
}

/** The system's tar, which gets what may pass, written anew. */
function startTar(options: UnpackOptions): Extraction {
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
  const outgoing = pack();
  const folders = new Set<string>();
  const writing = pipeline(outgoing as unknown as Readable, child.stdin);
  const broken = new Promise<never>((_resolve, reject) => void writing.catch(reject));
  broken.catch(() => {});
  const givenUp = async (error: unknown): Promise<unknown> => {
    outgoing.destroy();
    await writing.catch(() => {});
    child.kill('SIGKILL');
    const exit = await ended;
    // A tar that ended by itself says better why than the pipe to it.
    const pipe = !(error instanceof CodedError) && (error as NodeJS.ErrnoException).code === 'EPIPE';
    return exit !== null && pipe ? unpackFailed(errors, exit) : error;
  };
  return {
    async put(entry, body) {
      // Folders that the layer does not name would be made by tar as its own, not as the owner's.
      for (let at = entry.path.indexOf('/'); at >= 0; at = entry.path.indexOf('/', at + 1)) {
        const above = entry.path.slice(0, at);
        if (folders.has(above)) continue;
        folders.add(above);
        const folder: LayerEntry = { ...entry, path: above, kind: 'directory', size: 0, target: '' };
        await Promise.race([put(outgoing, folder, null, options), broken]);
      }
      if (entry.kind === 'directory') folders.add(entry.path);
      await Promise.race([put(outgoing, entry, body, options), broken]);
    },
    async end() {
      outgoing.finalize();
      try {
        await writing;
      } catch (error) {
        throw await givenUp(error);
      }
      const exit = await ended;
      if (exit !== 0) throw unpackFailed(errors, exit);
    },
    givenUp,
  };
}

const unpackFailed = (errors: string, exit: number | null) =>
  new CodedError('setup_failed', { detail: `tar: ${errors.trim() || `exit status ${exit}`}` });

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
    mode: modeOf(entry),
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
