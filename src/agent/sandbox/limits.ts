/** Limits of memory and processes by cgroup, and the end of everything in it. */
import { existsSync, mkdirSync, readFileSync, rmdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { AttemptBounds, LimitsWay } from './host.js';
import { signal } from './processes.js';

export interface Limits {
  /** Bytes. */
  memory: number;
  processes: number;
  /** Cores, such as 1.5; null: all of the machine's. */
  cpu: number | null;
  /** Weight against other work when the machine is busy; 1024 is a process outside any group. */
  weight: number;
}

const gib = 1024 ** 3;
/** Below instances: what serves people goes first on a busy machine. */
export const attemptLimits = ({ memory, processes, cpu }: AttemptBounds): Limits => ({ memory, processes, cpu, weight: 512 });
export const instanceLimits: Limits = { memory: gib, processes: 1024, cpu: null, weight: 1024 };

export interface Group {
  /** Files into which a process writes its id to enter. */
  entries: string[];
  /** What the limits have done to the work so far. */
  facts(): GroupFacts;
  kill(): void;
  /** Ends what is left in it and removes it. */
  remove(): Promise<void>;
}

export interface GroupFacts {
  /** Processes that were ended because memory ran out. */
  outOfMemory: number;
  /** New processes that were refused. */
  refusedProcesses: number;
}

const controllers = ['memory', 'pids', 'cpu'] as const;

const foldersOf = (way: LimitsWay, id: string): string[] => {
  const name = `tsunagi-${id}`;
  if (way === 'none') return [];
  if (way === 'cgroup v2') return [join('/sys/fs/cgroup', name)];
  return controllers.map((one) => join('/sys/fs/cgroup', one, name)).filter((folder) => existsSync(dirname(folder)));
};

/** Makes a group for one piece of work; without cgroups it holds nothing. */
export function makeGroup(way: LimitsWay, id: string, limits: Limits): Group {
  const set = (folder: string, file: string, value: number | string) => {
    const path = join(folder, file);
    if (existsSync(path)) writeFileSync(path, String(value));
  };
  const period = 100_000;
  for (const folder of foldersOf(way, id)) {
    mkdirSync(folder, { recursive: true });
    set(folder, 'memory.max', limits.memory);
    set(folder, 'memory.oom.group', 0);
    set(folder, 'memory.limit_in_bytes', limits.memory);
    set(folder, 'pids.max', limits.processes);
    set(folder, 'cpu.shares', limits.weight);
    set(folder, 'cpu.weight', Math.max(1, Math.round((limits.weight / 1024) * 100)));
    if (limits.cpu !== null) {
      set(folder, 'cpu.max', `${Math.round(limits.cpu * period)} ${period}`);
      set(folder, 'cpu.cfs_quota_us', Math.round(limits.cpu * period));
    }
  }
  return groupOf(way, id);
}

/** `name N` lines of a group's file; 0 where there is none. */
function counter(folders: readonly string[], file: string, name: string): number {
  for (const folder of folders) {
    try {
      const found = new RegExp(`^${name} (\\d+)$`, 'm').exec(readFileSync(join(folder, file), 'utf8'));
      if (found) return Number(found[1]);
    } catch {
      // This controller has no such file.
    }
  }
  return 0;
}

/** The group of a piece of work that was started before. */
export function groupOf(way: LimitsWay, id: string): Group {
  const folders = foldersOf(way, id);
  const kill = () => {
    for (const pid of folders[0] ? members(folders[0]) : []) signal(pid, 'SIGKILL');
  };
  return {
    entries: folders.map((folder) => join(folder, 'cgroup.procs')),
    facts: () => ({
      outOfMemory: counter(folders, 'memory.events', 'oom_kill') || counter(folders, 'memory.oom_control', 'oom_kill'),
      refusedProcesses: counter(folders, 'pids.events', 'max'),
    }),
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
