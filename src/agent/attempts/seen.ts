/** Names of the files that a piece of work saw: for telling which one was meant. */
import { closeSync, constants, fstatSync, openSync, readdirSync, readSync, realpathSync } from 'node:fs';
import { join } from 'node:path';

const most = 4_000;
const skipped = new Set(['node_modules', '.git', '__pycache__', '.packages']);

/** Paths relative to the folders, which lie over each other; at most some thousands, the nearest to the top first. */
export function seenFiles(folders: readonly string[]): string[] {
  const found = new Set<string>();
  let level = [''];
  while (level.length && found.size < most) {
    const next = new Set<string>();
    for (const path of level)
      for (const folder of folders) {
        try {
          for (const entry of readdirSync(join(folder, path), { withFileTypes: true })) {
            const inside = path ? `${path}/${entry.name}` : entry.name;
            if (entry.isDirectory()) {
              if (!skipped.has(entry.name)) next.add(inside);
            } else if (found.size < most) found.add(inside);
          }
        } catch {
          // Not every layer has every folder.
        }
      }
    level = [...next];
  }
  return [...found];
}

/** Bytes of a file that are read of it. */
const textBytes = 65_536;

/** The text of a file in one of the folders, the topmost first. They may hold links: what leads out of its folder is not read. */
export function seenText(folders: readonly string[], path: string): string | null {
  for (const folder of [...folders].reverse()) {
    try {
      const inside = realpathSync(join(folder, path));
      if (!inside.startsWith(`${realpathSync(folder)}/`)) continue;
      const file = openSync(inside, constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);
      try {
        if (!fstatSync(file).isFile()) continue;
        const bytes = Buffer.alloc(textBytes);
        return bytes.subarray(0, readSync(file, bytes, 0, textBytes, 0)).toString('utf8');
      } finally {
        closeSync(file);
      }
    } catch {
      // Not every layer has every file.
    }
  }
  return null;
}

/** The end of what a command prints. */
export function makeTail(limit = 16_384): { push(bytes: Buffer): void; clear(): void; lines(): string[] } {
  let parts: Buffer[] = [];
  let size = 0;
  return {
    push(bytes) {
      parts.push(bytes.length > limit ? bytes.subarray(bytes.length - limit) : bytes);
      size += Math.min(bytes.length, limit);
      if (size > limit * 4) {
        const all = Buffer.concat(parts);
        parts = [all.subarray(Math.max(0, all.length - limit))];
        size = parts[0]?.length ?? 0;
      }
    },
    clear() {
      parts = [];
      size = 0;
    },
    lines() {
      const all = Buffer.concat(parts);
      return all
        .subarray(Math.max(0, all.length - limit))
        .toString('utf8')
        .split('\n')
        .slice(-80);
    },
  };
}
