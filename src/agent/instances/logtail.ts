/**
 * What an instance prints, read from the files that its keeper writes in turn: `log.0`, `log.1`, … of `segmentBytes` each, of which
 * the newest few stay. What was removed before it was read is counted.
 */
import { closeSync, openSync, readdirSync, readSync, statSync } from 'node:fs';
import { join } from 'node:path';

/** Bytes of one file, and how many of them the keeper leaves (launch.sh is told both). */
export const segmentBytes = 8 * 1024 * 1024;
export const segmentsKept = 4;

/** The next byte to read. */
export interface LogPlace {
  segment: number;
  offset: number;
}

export interface LogTail {
  /** Gives what was added since the last call to `take`, until it says that it has no room. */
  read(): void;
  place(): LogPlace;
}

/** `lost` is told how many bytes were removed before they could be read. */
export function openLogTail(
  folder: string,
  from: LogPlace,
  take: (bytes: Buffer) => boolean,
  lost: (bytes: number) => void,
): LogTail {
  let { segment, offset } = from;
  const buffer = Buffer.alloc(256 * 1024);
  const pathOf = (number: number) => join(folder, `log.${number}`);
  const readOn = (): 'read' | 'missing' | 'no room' => {
    let file: number;
    try {
      file = openSync(pathOf(segment), 'r');
    } catch {
      return 'missing';
    }
    try {
      for (;;) {
        const read = readSync(file, buffer, 0, buffer.length, offset);
        if (read === 0) return 'read';
        offset += read;
        if (!take(Buffer.from(buffer.subarray(0, read)))) return 'no room';
      }
    } finally {
      closeSync(file);
    }
  };
  return {
    read() {
      for (;;) {
        // Asked for first: a file is full before the next one is begun, so that then all of it is read below.
        const next = newerThan(folder, segment);
        const before = offset;
        const state = readOn();
        if (state === 'no room') return;
        if (next === null) return;
        const missing = state === 'missing' ? segmentBytes - before : 0;
        const skipped = Math.max(0, missing) + (next - segment - 1) * segmentBytes;
        segment = next;
        offset = 0;
        if (skipped > 0) lost(skipped);
      }
    },
    place: () => ({ segment, offset }),
  };
}

const segments = (folder: string): number[] => {
  try {
    return readdirSync(folder)
      .flatMap((name) => /^log\.(\d+)$/.exec(name)?.[1] ?? [])
      .map(Number)
      .sort((a, b) => a - b);
  } catch {
    return [];
  }
};

const newerThan = (folder: string, segment: number): number | null =>
  segments(folder).find((one) => one > segment) ?? null;

/** The last lines that were printed. */
export function lastLines(folder: string): string[] {
  const newest = segments(folder)
    .slice(-2)
    .map((number) => endOf(join(folder, `log.${number}`), 8192));
  return Buffer.concat(newest).toString('utf8').replace(/\0/g, '').split('\n').slice(-40);
}

function endOf(path: string, bytes: number): Buffer {
  try {
    const { size } = statSync(path);
    const file = openSync(path, 'r');
    try {
      const end = Buffer.alloc(Math.min(size, bytes));
      readSync(file, end, 0, end.length, size - end.length);
      return end;
    } finally {
      closeSync(file);
    }
  } catch {
    return Buffer.alloc(0);
  }
}
