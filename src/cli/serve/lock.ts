/** The lock of a data folder: one installation at a time works on it. */
import { linkSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { CodedError } from '../../core/errors/errors.js';
import { beginningOf, runsWith } from './process.js';

/** Tries while other processes lock and unlock it at the same moment. */
const mostTries = 20;

/**
 * Locks the folder, and returns the function that unlocks it. A lock whose process has ended, also before a reboot, is replaced.
 * @throws `unavailable` where another process holds it
 */
export function lockData(data: string): () => void {
  const file = join(data, 'serve.pid');
  const fresh = `${file}.${process.pid}`;
  writeFileSync(fresh, `${process.pid} ${beginningOf(process.pid)}\n`);
  try {
    for (let tries = 0; tries < mostTries; tries++) {
      try {
        // Unlike a write, a link fails where a file exists, and is never seen half written.
        linkSync(fresh, file);
        return () => rmSync(file, { force: true });
      } catch (error) {
        if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
      }
      const seen = textOf(file);
      const pid = holderOf(seen);
      if (pid !== null) throw new CodedError('unavailable', { detail: `${data} is in use by process ${pid}.` });
      putAside(file, seen);
    }
    throw new CodedError('unavailable', { detail: `${data} is being taken by another process.` });
  } finally {
    rmSync(fresh, { force: true });
  }
}

/** The process that holds the lock; null where that is this process, or one that has ended. */
function holderOf(text: string): number | null {
  const [number = '', ...beginning] = text.trim().split(' ');
  const pid = Number(number);
  if (!pid || pid === process.pid) return null;
  // An earlier version wrote no beginning.
  const lives = beginning.length ? beginningOf(pid) === beginning.join(' ') : runsWith(pid, 'node');
  return lives ? pid : null;
}

/** Removes the lock that was seen. If another process has replaced it meanwhile, that one is restored. */
function putAside(file: string, seen: string): void {
  const aside = `${file}.${process.pid}.aside`;
  try {
    renameSync(file, aside);
    if (textOf(aside) !== seen) linkSync(aside, file);
  } catch (error) {
    if (!['ENOENT', 'EEXIST'].includes((error as NodeJS.ErrnoException).code ?? '')) throw error;
  } finally {
    rmSync(aside, { force: true });
  }
}

function textOf(file: string): string {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    return '';
  }
}
