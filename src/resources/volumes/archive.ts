/**
 * Files of a volume as a tar archive (POSIX.1-2001, pax), written and unpacked by GNU tar with the rights of the programs that own them:
 * whatever they have put there, links and names, leads no further than they could go.
 */
import { type ChildProcess, spawn } from 'node:child_process';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { Owner } from './filesystem.js';

const environment = { PATH: '/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin', LC_ALL: 'C.UTF-8' };
/** What is said of what changed while it was read is no failure: the programs go on meanwhile. */
const changed = 1;
const wordsKept = 2_000;

function tar(args: string[], owner: Owner | null, input: 'pipe' | 'ignore') {
  const words = owner
    ? ['setpriv', `--reuid=${owner.uid}`, `--regid=${owner.gid}`, '--clear-groups', '--no-new-privs', 'tar', ...args]
    : ['tar', ...args];
  const [file = '', ...rest] = words;
  const child = spawn(file, rest, { env: environment, cwd: '/', stdio: [input, 'pipe', 'pipe'] });
  let said = '';
  child.stderr?.setEncoding('utf8').on('data', (text: string) => {
    said = (said + text).slice(-wordsKept);
  });
  const ended = new Promise<number>((resolve, reject) => {
    child.once('error', reject);
    child.once('close', (code) => resolve(code ?? 137));
  });
  ended.catch(() => {});
  return { child, ended, said: () => wordsOf(said) };
}

/** The last of its lines that says more than that something went wrong. */
const wordsOf = (said: string): string =>
  said
    .split('\n')
    .filter((line) => line.trim() !== '' && !/Exiting with failure status|is not recoverable/.test(line))
    .at(-1) ?? '';

export interface Archive {
  bytes: Readable;
  /** Rejects where it is not whole. */
  done: Promise<void>;
  kill(): void;
}

/** Reads all files of a folder; names and owners in it are of no machine. */
export function readFolder(folder: string, owner: Owner | null): Archive {
  const { child, ended, said } = tar(
    [
      '--create',
      '--file=-',
      '--format=pax',
      '--pax-option=delete=atime,delete=ctime',
      '--sort=name',
      '--owner=0',
      '--group=0',
      '--numeric-owner',
      '--one-file-system',
      '--warning=no-file-ignored',
      `--directory=${folder}`,
      '.',
    ],
    owner,
    'ignore',
  );
  const done = ended.then((code) => {
    if (code > changed) throw new Error(said() || `tar ended with ${code}`);
  });
  done.catch(() => {});
  return { bytes: child.stdout as Readable, done, kill: () => void child.kill('SIGKILL') };
}

/** Unpacks an archive into an empty folder. Throws with `full` where there is no room for it. */
export async function fillFolder(
  folder: string,
  from: Readable,
  owner: Owner | null,
  abort: AbortSignal,
): Promise<void> {
  const { child, ended, said } = tar(
    [
      '--extract',
      '--file=-',
      '--no-same-owner',
      '--preserve-permissions',
      '--delay-directory-restore',
      `--directory=${folder}`,
    ],
    owner,
    'pipe',
  );
  child.stdout?.resume();
  const end = () => child.kill('SIGKILL');
  abort.addEventListener('abort', end, { once: true });
  try {
    if (abort.aborted) end();
    let broken: Error | null = null;
    await pipeline(from, (child as ChildProcess & { stdin: NodeJS.WritableStream }).stdin).catch(
      (error: NodeJS.ErrnoException) => {
        // A program that has ended takes no more: why it ended says its end.
        if (error.code === 'EPIPE' || error.code === 'ERR_STREAM_PREMATURE_CLOSE') return;
        broken = error;
        end();
      },
    );
    const code = await ended;
    if (broken) throw broken as Error;
    if (code === 0) return;
    throw Object.assign(new Error(said() || `tar ended with ${code}`), {
      full: /No space left|Wrote only/.test(said()),
    });
  } finally {
    abort.removeEventListener('abort', end);
    from.destroy();
  }
}
