/**
 * Folders that a task keeps between attempts. Two attempts never write one at the same time: each takes a free copy, the one
 * that was used last first, and gives it back. Copies belong to one project and trust scope.
 */
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, statSync, utimesSync } from 'node:fs';
import { join } from 'node:path';
import { removeTree } from '../files/remove.js';
import { ownFolder } from '../sandbox/chain.js';
import type { Account } from '../sandbox/host.js';

export interface Caches {
  /** A folder for each path, as it was left by the attempt that used it last; empty when there is none. */
  take(key: string, paths: readonly string[]): TakenCaches;
  /** Removes copies that nobody has used for `ms`. */
  tidy(ms: number): Promise<void>;
}

export interface TakenCaches {
  binds: { from: string; to: string }[];
  giveBack(): void;
}

export function openCaches(folder: string, account: Account | null): Caches {
  ownFolder(folder, null, 0o711);
  const inUse = new Set<string>();
  const copiesOf = (place: string): string[] =>
    existsSync(place)
      ? readdirSync(place)
          .map((name) => join(place, name))
          .sort((a, b) => statSync(b).mtimeMs - statSync(a).mtimeMs)
      : [];
  const takeOne = (key: string, path: string): string => {
    const place = join(folder, createHash('sha256').update(`${key}\n${path}`).digest('hex').slice(0, 32));
    mkdirSync(place, { recursive: true });
    ownFolder(place, null, 0o711);
    let copy = copiesOf(place).find((one) => !inUse.has(one));
    if (!copy) {
      let number = 1;
      // One that is being removed keeps its name until it is gone.
      while (existsSync(join(place, String(number))) || inUse.has(join(place, String(number)))) number++;
      copy = join(place, String(number));
      ownFolder(copy, account, 0o755);
    }
    inUse.add(copy);
    return copy;
  };
  return {
    take(key, paths) {
      const binds = paths.map((path) => ({
        from: takeOne(key, path),
        to: path.startsWith('~/') ? `/home/tsunagi/${path.slice(2)}` : `/project/${path}`,
      }));
      return {
        binds,
        giveBack() {
          const now = new Date();
          for (const { from } of binds) {
            if (existsSync(from)) utimesSync(from, now, now);
            inUse.delete(from);
          }
        },
      };
    },
    async tidy(ms) {
      for (const place of readdirSync(folder))
        for (const copy of copiesOf(join(folder, place)))
          if (!inUse.has(copy) && Date.now() - statSync(copy).mtimeMs > ms) {
            // An attempt that begins meanwhile takes another one.
            inUse.add(copy);
            await removeTree(copy).finally(() => inUse.delete(copy));
          }
    },
  };
}
