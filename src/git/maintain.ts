/** What keeps a repository small and readable. Nothing here removes an object that a ref or a reader may need. */
import { readdir, rm, stat } from 'node:fs/promises';
import { join } from 'node:path';
import { git } from './command.js';

/** What git leaves in its object folder when it is killed: folders of pushes that never ended, and packs that it was writing. */
const leftovers: [string, RegExp][] = [
  ['objects', /^(tmp_objdir-|incoming-)/],
  ['objects/pack', /^\.?tmp[-_]/],
];

/** Removes leftovers that nothing has written to since `before` (milliseconds since the epoch). Returns how many. */
export async function dropLeftovers(repository: string, before: number): Promise<number> {
  let removed = 0;
  for (const [folder, pattern] of leftovers)
    for (const name of await readdir(join(repository, folder)).catch(() => [])) {
      if (!pattern.test(name)) continue;
      const path = join(repository, folder, name);
      if ((await lastWritten(path)) >= before) continue;
      await rm(path, { recursive: true, force: true });
      removed++;
    }
  return removed;
}

/** The newest time of change of a file, or of anything in a folder; 0 when it is gone. */
async function lastWritten(path: string): Promise<number> {
  const seen = await stat(path).catch(() => null);
  if (!seen?.isDirectory()) return seen?.mtimeMs ?? 0;
  const inside = await readdir(path).catch(() => []);
  const times = await Promise.all(inside.map((name) => lastWritten(join(path, name))));
  return Math.max(seen.mtimeMs, ...times);
}

/** Loose objects and packs from which on a repository is packed again. */
const looseAtMost = 6_000;
const packsAtMost = 50;

/** Packs all objects into one pack when there are many loose ones or many packs. It keeps objects that no ref names. Returns whether it did. */
export async function repack(
  repository: string,
  limits = { loose: looseAtMost, packs: packsAtMost },
): Promise<boolean> {
  const { out } = await git(repository, ['count-objects', '-v']);
  const count = (key: string) => Number(new RegExp(`^${key}: (\\d+)$`, 'm').exec(out.toString())?.[1] ?? 0);
  if (count('count') <= limits.loose && count('packs') <= limits.packs) return false;
  await git(repository, ['repack', '-a', '-d', '-l', '-q', '--keep-unreachable', '--threads=1'], {
    timeout: 3_600_000,
  });
  return true;
}
