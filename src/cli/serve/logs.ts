/** The logs of the processes that `serve` starts: appended to by them, rotated by `serve`. */
import { copyFileSync, existsSync, mkdirSync, openSync, renameSync, rmSync, statSync, truncateSync } from 'node:fs';
import { join } from 'node:path';

/** Bytes of a log after which it is rotated, and how many older ones are kept. */
const mostBytes = 32 * 1024 ** 2;
const keep = 3;

export interface ServeLogs {
  folder: string;
  /** Opens the log of a process for appending. */
  open(name: string): number;
  stop(): void;
}

/** Opens the folder and looks at its logs every `everyMs` milliseconds. */
export function openLogs(data: string, names: readonly string[], everyMs = 10_000): ServeLogs {
  const folder = join(data, 'logs');
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const rotate = () => {
    for (const name of names) rotateLog(join(folder, `${name}.log`), { mostBytes, keep });
  };
  rotate();
  const timer = setInterval(rotate, everyMs);
  timer.unref();
  return {
    folder,
    open: (name) => openSync(join(folder, `${name}.log`), 'a', 0o600),
    stop: () => clearInterval(timer),
  };
}

/**
 * Moves what a log has to `FILE.1`, and older ones up by one, where it has more than `mostBytes`. The process keeps its descriptor:
 * the bytes are copied and the file is cut to nothing, which appending allows. Lines written between the two are lost. A disk that is
 * too full for the copy loses the old lines, never the process.
 */
export function rotateLog(file: string, bounds: { mostBytes: number; keep: number }): void {
  try {
    if (!existsSync(file) || statSync(file).size <= bounds.mostBytes) return;
    for (let at = bounds.keep - 1; at >= 1; at--)
      if (existsSync(`${file}.${at}`)) renameSync(`${file}.${at}`, `${file}.${at + 1}`);
    try {
      copyFileSync(file, `${file}.1`);
    } catch {
      rmSync(`${file}.1`, { force: true });
    }
    truncateSync(file);
  } catch {
    // A log that cannot be rotated now is looked at again.
  }
}
