/**
 * Removes folders without holding this process up: a program of its own does it, with the least claim to processor and disk. It is
 * started once and told what to remove, since starting one each time costs a process of this size more than most removals.
 */
import { type ChildProcess, spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdirSync, readdirSync, renameSync } from 'node:fs';
import { basename, join } from 'node:path';

/** Reads paths that are ended by a zero byte, and says a line for each that was removed, in their order. */
const script = 'while IFS= read -r -d "" path; do rm -rf --one-file-system -- "$path"; echo; done';

interface Remover {
  child: ChildProcess;
  waiting: (() => void)[];
}

let remover: Remover | null = null;

function openRemover(): Remover {
  // It ends by itself when this process has, and what it was told is done.
  const child = spawn('nice', ['-n', '19', 'bash', '-c', script], {
    stdio: ['pipe', 'pipe', 'ignore'],
    detached: true,
    cwd: '/',
  });
  const own: Remover = { child, waiting: [] };
  const over = () => {
    if (remover === own) remover = null;
    for (const done of own.waiting.splice(0)) done();
  };
  child.on('error', over);
  child.on('close', over);
  child.stdin?.on('error', over);
  child.stdout?.on('data', (bytes: Buffer) => {
    for (const byte of bytes) if (byte === 10) own.waiting.shift()?.();
    if (own.waiting.length === 0) rest(own, false);
  });
  rest(own, false);
  return own;
}

/** While it has nothing to do it holds nobody up. */
function rest({ child }: Remover, busy: boolean): void {
  for (const one of [child, child.stdin, child.stdout] as ({ ref(): void; unref(): void } | null)[])
    one?.[busy ? 'ref' : 'unref']?.();
}

/** Resolves when they are gone, or could not be removed; what is left then is swept at the agent's next start. */
export async function removeTree(...paths: string[]): Promise<void> {
  await Promise.all(
    paths.map(
      (path) =>
        new Promise<void>((resolve) => {
          remover ??= openRemover();
          remover.waiting.push(resolve);
          rest(remover, true);
          remover.child.stdin?.write(`${path}\0`);
        }),
    ),
  );
}

const trashOf = (agentFolder: string) => join(agentFolder, 'trash');

/**
 * Takes a folder of work out of the way at once, and removes it in its own time: whoever writes to it until then, or makes it anew,
 * is not hindered and hinders nothing. Resolves when it is gone; a folder that is not there is gone.
 */
export async function discard(agentFolder: string, path: string): Promise<void> {
  let away: string[];
  try {
    away = moveAway(agentFolder, path);
  } catch {
    // It can't be moved: it goes where it lies.
    away = [path];
  }
  await removeTree(...away);
}

/** The same for a place that is to be made anew: throws when it can't be moved, since its removal would meet what comes after it. */
export function clearPlace(agentFolder: string, path: string): void {
  void removeTree(...moveAway(agentFolder, path));
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
