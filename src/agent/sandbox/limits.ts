/** Limits of memory and processes by cgroup, and the end of everything in it. */
import { existsSync, mkdirSync, readFileSync, rmdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { LimitsWay } from './host.js';
import { signal } from './processes.js';

export interface Limits {
  /** Bytes. */
  memory: number;
  processes: number;
}

const gib = 1024 ** 3;
export const attemptLimits: Limits = { memory: 6 * gib, processes: 4096 };
export const instanceLimits: Limits = { memory: gib, processes: 1024 };

export interface Group {
  /** Files into which a process writes its id to enter. */
  entries: string[];
  kill(): void;
  /** Ends what is left in it and removes it. */
  remove(): Promise<void>;
}

const foldersOf = (way: LimitsWay, id: string): string[] => {
  const name = `tsunagi-${id}`;
  return way === 'none' ? [] : way === 'cgroup v2' ? [join('/sys/fs/cgroup', name)] : [join('/sys/fs/cgroup/memory', name), join('/sys/fs/cgroup/pids', name)];
};

/** Makes a group for one piece of work; without cgroups it holds nothing. */
export function makeGroup(way: LimitsWay, id: string, limits: Limits): Group {
  const set = (folder: string, file: string, value: number) => {
    const path = join(folder, file);
    if (existsSync(path)) writeFileSync(path, String(value));
  };
  for (const folder of foldersOf(way, id)) {
    mkdirSync(folder, { recursive: true });
    set(folder, 'memory.max', limits.memory);
    set(folder, 'memory.limit_in_bytes', limits.memory);
    set(folder, 'pids.max', limits.processes);
  }
  return groupOf(way, id);
}

/** The group of a piece of work that was started before. */
export function groupOf(way: LimitsWay, id: string): Group {
  const folders = foldersOf(way, id);
  const kill = () => {
    for (const pid of folders[0] ? members(folders[0]) : []) signal(pid, 'SIGKILL');
  };
  return {
    entries: folders.map((folder) => join(folder, 'cgroup.procs')),
    kill,
    async remove() {
      for (let tries = 0; tries < 20; tries++) {
        kill();
        const left = folders.filter((folder) => existsSync(folder) && !removed(folder));
        if (left.length === 0) return;
        await new Promise((resolve) => setTimeout(resolve, 10 * (tries + 1)));
      }
    },
  };
}

function removed(folder: string): boolean {
  try {
    rmdirSync(folder);
    return true;
  } catch {
    // A process is still on its way out.
    return false;
  }
}

function members(folder: string): number[] {
  try {
    return readFileSync(join(folder, 'cgroup.procs'), 'utf8').split('\n').filter(Boolean).map(Number);
  } catch {
    return [];
  }
}
