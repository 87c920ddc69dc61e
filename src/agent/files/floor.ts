/**
 * What keeps an agent alive on a full disk: a reserve that it gives up when it has to write its own state, and a floor below which the
 * attempt that has written most is ended, before what is live has no room for its logs.
 */
import { closeSync, openSync, statSync, unlinkSync, writeSync } from 'node:fs';
import { statfs } from 'node:fs/promises';
import { join } from 'node:path';

/** Bytes of the reserve. */
const reserveBytes = 16 * 1024 ** 2;

export interface Reserve {
  /** Makes room for a small file. False: there was no reserve. */
  release(): boolean;
  /** Takes the room again; where the disk has none now, later. */
  refill(): void;
}

export function openReserve(folder: string, bytes = reserveBytes): Reserve {
  const file = join(folder, 'reserve');
  const reserve: Reserve = {
    release() {
      try {
        unlinkSync(file);
        return true;
      } catch {
        return false;
      }
    },
    refill() {
      try {
        if (statSync(file, { throwIfNoEntry: false })?.size === bytes) return;
        const open = openSync(file, 'w', 0o600);
        try {
          const zeros = Buffer.alloc(1024 ** 2);
          for (let at = 0; at < bytes; at += zeros.length)
            writeSync(open, zeros, 0, Math.min(zeros.length, bytes - at));
        } finally {
          closeSync(open);
        }
      } catch {
        // What was taken of it would be missing elsewhere.
        reserve.release();
      }
    },
  };
  reserve.refill();
  return reserve;
}

/** Work that takes room on the disk. */
export interface Taking {
  /** Bytes that it has taken, as they were counted last. */
  bytes(): number;
  /** Ends it; `free`: bytes that were left. */
  end(free: number): void;
}

export interface Floor {
  /** Until the returned function is called. */
  add(one: Taking): () => void;
  close(): void;
}

/** Milliseconds between two looks, and for which an end is waited for before the next one is chosen. */
const everyMs = 1_000;
const endingMs = 15_000;
/** Looks for which the files of what has ended may take to go. */
const goingLooks = 5;

export interface FloorOptions {
  /** Bytes that stay free. */
  bytes: number;
  reserve: Reserve;
  /** Bytes that are free now. */
  free(): Promise<number>;
}

export const freeAt = async (folder: string): Promise<number> => {
  const { bavail, bsize } = await statfs(folder);
  return bavail * bsize;
};

/** Looks at the disk every second. Below the floor it ends the work that has taken most, one at a time. */
export function openFloor({ bytes, reserve, free }: FloorOptions, every = everyMs): Floor {
  const taking = new Set<Taking>();
  let ending: { one: Taking; until: number } | null = null;
  const look = async (): Promise<void> => {
    const left = await free();
    if (left > 2 * bytes) reserve.refill();
    if (left >= bytes) {
      ending = null;
      return;
    }
    if (ending && performance.now() < ending.until) return;
    const [largest] = [...taking].filter((one) => one !== ending?.one).sort((a, b) => b.bytes() - a.bytes());
    if (!largest) return;
    ending = { one: largest, until: performance.now() + endingMs };
    largest.end(left);
  };
  const timer = setInterval(() => void look().catch(() => {}), every);
  timer.unref();
  return {
    add(one) {
      taking.add(one);
      return () => {
        taking.delete(one);
        // Its files are removed after it: until then the disk is as full as before, and nothing else is to end for that.
        if (ending?.one === one) ending.until = Math.min(ending.until, performance.now() + goingLooks * every);
      };
    },
    close: () => clearInterval(timer),
  };
}
