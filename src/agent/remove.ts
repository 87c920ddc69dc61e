/** Removes folders without holding this process up: a program of its own does it, with the least claim to processor and disk. */
import { spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdirSync, readdirSync, renameSync } from 'node:fs';
import { basename, join } from 'node:path';

/** Resolves when they are gone, or could not be removed; what is left then is swept at the agent's next start. */
export function removeTree(...paths: string[]): Promise<void> {
  return new Promise((resolve) => {
    const child = spawn('nice', ['-n', '19', 'rm', '-rf', '--one-file-system', '--', ...paths], { stdio: 'ignore', detached: true });
    child.on('error', () => resolve());
    child.on('close', () => resolve());
    child.unref();
  });
}

const trashOf = (agentFolder: string) => join(agentFolder, 'trash');

/**
 * Takes a folder of work out of the way at once, and removes it in its own time: whoever writes to it until then, or makes it anew,
 * is not hindered and hinders nothing. Resolves when it is gone; a folder that is not there is gone.
 */
export function discard(agentFolder: string, path: string): Promise<void> {
  return removeTree(...moveAway(agentFolder, path));
}

/** Moves a folder to where what is discarded lies, for `sweepTrash`; gives its new place, or none when it was not there. */
export function moveAway(agentFolder: string, path: string): string[] {
  const trash = trashOf(agentFolder);
  mkdirSync(trash, { recursive: true, mode: 0o700 });
  const away = join(trash, `${basename(path)}.${randomUUID()}`);
  try {
    renameSync(path, away);
    return [away];
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return [];
    throw error;
  }
}

/** Removes what an earlier agent had discarded, or had no time for. */
export function sweepTrash(agentFolder: string): Promise<void> {
  const trash = trashOf(agentFolder);
  mkdirSync(trash, { recursive: true, mode: 0o700 });
  return removeTree(...readdirSync(trash).map((name) => join(trash, name)));
}
