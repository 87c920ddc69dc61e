/** One house at a time works on a data folder. */
import { linkSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { CodedError } from '../../core/errors/errors.js';
import { beginningOf, runsWith } from './process.js';

/** Tries for a file that another one takes away at the same moment. */
const mostTries = 20;

/**
 * Takes the folder, until what is given is called. What a house left that was killed, or that an earlier boot remembers, is no house.
 * @throws `unavailable` where another process has it
 */
export function lockData(data: string): () => void {
  const file = join(data, 'serve.pid');
  const fresh = `${file}.${process.pid}`;
  writeFileSync(fresh, `${process.pid} ${beginningOf(process.pid)}\n`);
  try {
    for (let tries = 0; tries < mostTries; tries++) {
      try {
        // A link is made only where nothing is, and is whole at once.
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

/** The process that holds it; null: none that still runs, or this one. */
function holderOf(text: string): number | null {
  const [number = '', ...beginning] = text.trim().split(' ');
  const pid = Number(number);
  if (!pid || pid === process.pid) return null;
  // An earlier version wrote no beginning.
  const lives = beginning.length ? beginningOf(pid) === beginning.join(' ') : runsWith(pid, 'node');
  return lives ? pid : null;
}

/** Takes away what was seen there; what has come into its place meanwhile goes back. */
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
