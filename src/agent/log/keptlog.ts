/**
 * Keeps a log within bounds: its head goes out as it comes, its tail when the work has ended; what lies between is counted.
 * The tail waits in two files that take turns, so that a program which prints without end fills neither memory nor disk.
 */
import { closeSync, mkdirSync, openSync, readFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { countLines } from '../../core/lines.js';
import type { LogSender } from './log.js';

export interface LogBounds {
  /** Bytes of the head, and at most so many of the tail. */
  head: number;
  tail: number;
}

/** By default 64 MB in all. */
export const defaultBounds: LogBounds = { head: 32_000_000, tail: 32_000_000 };

export interface KeptLog extends Pick<LogSender, 'write' | 'drained' | 'flush'> {
  /** Lines so far. */
  lines(): number;
}

interface Mark {
  /** Byte of the tail at which a command begins. */
  at: number;
  command: number;
}

/** `folder` is made when it is needed. */
export function boundLog(sender: LogSender, folder: string, bounds: LogBounds): KeptLog {
  let left = bounds.head;
  let lines = 0;
  let tail: ReturnType<typeof openTail> | null = null;
  return {
    write(bytes, command) {
      const newLines = countLines(bytes);
      lines += newLines;
      if (tail) {
        tail.write(bytes, command, newLines);
        return true;
      }
      if (bytes.length <= left) {
        left -= bytes.length;
        return sender.write(bytes, command);
      }
      // The head ends with a whole line where there is one.
      const end = bytes.lastIndexOf(10, left) + 1 || left;
      const room = sender.write(bytes.subarray(0, end), command);
      tail = openTail(folder, bounds.tail);
      const rest = bytes.subarray(end);
      tail.write(rest, command, countLines(rest));
      return room;
    },
    drained: () => sender.drained(),
    lines: () => lines,
    async flush() {
      if (tail) {
        const { pieces, skipped } = tail.read();
        if (skipped.bytes) sender.skip(skipped);
        for (const { bytes, command } of pieces) {
          if (!sender.write(bytes, command)) await sender.drained();
        }
        tail = null;
      }
      await sender.flush();
    },
  };
}

interface Half {
  path: string;
  file: number;
}

/** Keeps at least the last half of `limit` bytes, and at most `limit`. */
function openTail(folder: string, limit: number) {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const begin = (path: string): Half => ({ path, file: openSync(path, 'w+', 0o600) });
  const each = Math.floor(limit / 2);
  let older = begin(join(folder, 'tail-a'));
  let newer = begin(join(folder, 'tail-b'));
  let filled = 0;
  let bytes = 0;
  let lines = 0;
  const marks: Mark[] = [];
  return {
    write(chunk: Buffer, command: number, newLines: number) {
      if (marks.at(-1)?.command !== command) marks.push({ at: bytes, command });
      bytes += chunk.length;
      lines += newLines;
      for (let at = 0; at < chunk.length; ) {
        if (filled === each) {
          // The older half is begun anew; what stood in it is out.
          closeSync(older.file);
          [older, newer] = [newer, begin(older.path)];
          filled = 0;
        }
        const piece = chunk.subarray(at, at + each - filled);
        writeSync(newer.file, piece);
        filled += piece.length;
        at += piece.length;
      }
    },
    /** What is kept, by command, and what is not. */
    read(): { pieces: { bytes: Buffer; command: number }[]; skipped: { lines: number; bytes: number } } {
      closeSync(older.file);
      closeSync(newer.file);
      const all = Buffer.concat([readFileSync(older.path), readFileSync(newer.path)]);
      let skippedBytes = bytes - all.length;
      let kept = all;
      if (skippedBytes > 0) {
        // It begins with a whole line.
        const next = all.indexOf(10) + 1;
        kept = all.subarray(next);
        skippedBytes += next;
      }
      const keptLines = countLines(kept);
      const pieces = marks.flatMap(({ at, command }, index) => {
        const piece = kept.subarray(
          Math.max(0, at - skippedBytes),
          Math.max(0, (marks[index + 1]?.at ?? bytes) - skippedBytes),
        );
        return piece.length ? [{ bytes: piece, command }] : [];
      });
      return { pieces, skipped: { lines: skippedBytes ? lines - keptLines : 0, bytes: skippedBytes } };
    },
  };
}
