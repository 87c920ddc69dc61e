/** Limits of memory, processes and processor by cgroup, and the end of everything in one. */
import { existsSync, mkdirSync, readdirSync, readFileSync, rmdirSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { AttemptBounds, LimitsWay } from './host.js';
import { insideIds, signal } from './processes.js';

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
export const attemptLimits = ({ memory, processes, cpu }: AttemptBounds): Limits => ({
  memory,
  processes,
  cpu,
  weight: 512,
});
export const instanceLimits: Limits = { memory: gib, processes: 512, cpu: null, weight: 4096 };
/** Of reviews: many may begin at once, beside what people work with. */
export const reviewWeight = 256;
/**
 * The agent's own work comes before all that it looks after, or it could not renew its lease, nor end what goes wrong. An edge does
 * little, and all that people do waits for it.
 */
const ownWeight = { agent: 8192, edge: 32_768, bench: 32_768 };

export interface Group {
  /** Files into which a process writes its id to enter. */
  entries: string[];
  /** Processes in it; none where there are no cgroups. */
  members(): number[];
  /** What the limits have done to the work since it was made, or last forgotten. */
  facts(): GroupFacts;
  /** Counts anew: another piece of work comes. Gives what was counted until now, all in all. */
  forget(): GroupFacts;
  /** TERM to every process in the sandbox but the first `spared` ones of it; nothing new is started while they are looked up. */
  terminate(spared: number): void;
  kill(): void;
  /** Everything in it stands still, or goes on. Gives whether it does; false where that can't be done, or takes too long. */
  freeze(on: boolean): Promise<boolean>;
  /** Ends what is left in it; whether nothing is then, which is not known without cgroups. */
  emptied(): Promise<boolean>;
  /** Ends what is left in it and removes it. */
  remove(): Promise<void>;
}

export interface GroupFacts {
  /** Processes that were ended because memory ran out. */
  outOfMemory: number;
  /** New processes that were refused. */
  refusedProcesses: number;
}

const noFacts: GroupFacts = { outOfMemory: 0, refusedProcesses: 0 };

const root = '/sys/fs/cgroup';
const controllers = ['memory', 'pids', 'cpu'] as const;

/** The tree of version 2, where one is mounted, also beside those of version 1: it freezes and kills a whole group at once. */
const unified = [root, join(root, 'unified')].find((path) => existsSync(join(path, 'cgroup.controllers'))) ?? null;

const nameOf = (id: string) => `tsunagi-${id}`;

const foldersOf = (way: LimitsWay, id: string): string[] => {
  const name = nameOf(id);
  if (way === 'none') return [];
  if (way === 'cgroup v2') return [join(root, name)];
  return [
    ...(unified ? [join(unified, name)] : []),
    ...controllers.map((one) => join(root, one, name)).filter((folder) => existsSync(dirname(folder))),
    ...(unified ? [] : [join(root, 'freezer', name)].filter((folder) => existsSync(dirname(folder)))),
  ];
};

/** Whether groups of this machine can be made to stand still. */
export function freezes(way: LimitsWay): boolean {
  const id = `try-${process.pid}`;
  const folders = foldersOf(way, id);
  try {
    for (const folder of folders) mkdirSync(folder, { recursive: true });
    return folders.some((one) => existsSync(join(one, 'cgroup.freeze')) || existsSync(join(one, 'freezer.state')));
  } catch {
    return false;
  } finally {
    for (const folder of folders) if (existsSync(folder)) removed(folder);
  }
}

/** Milliseconds after which a group that is empty was left by somebody who died over it. */
const leftMs = 3_600_000;

/** Removes groups in which nothing is and to which nothing has come for an hour; one that is in use can't be removed. */
export function sweepGroups(way: LimitsWay): void {
  const trees =
    way === 'none'
      ? []
      : way === 'cgroup v2'
        ? [root]
        : [...(unified ? [unified] : []), join(root, 'freezer'), ...controllers.map((one) => join(root, one))];
  for (const tree of trees.filter((one) => existsSync(one)))
    for (const name of readdirSync(tree)) {
      const folder = join(tree, name);
      if (/^tsunagi-([ts]-)?[0-9a-f]{8}-[0-9a-f-]{27}$/.test(name) && Date.now() - statSync(folder).mtimeMs > leftMs)
        removed(folder);
    }
}

function setLimit(folder: string, file: string, value: number | string): void {
  const path = join(folder, file);
  if (existsSync(path)) writeFileSync(path, String(value));
}

/** Makes a group for one piece of work; without cgroups it holds nothing. */
export function makeGroup(way: LimitsWay, id: string, limits: Limits): Group {
  const period = 100_000;
  for (const folder of foldersOf(way, id)) {
    mkdirSync(folder, { recursive: true });
    setLimit(folder, 'memory.max', limits.memory);
    setLimit(folder, 'memory.oom.group', 0);
    setLimit(folder, 'memory.limit_in_bytes', limits.memory);
    setLimit(folder, 'pids.max', limits.processes);
    setWeight(folder, limits.weight);
    if (limits.cpu !== null) {
      setLimit(folder, 'cpu.max', `${Math.round(limits.cpu * period)} ${period}`);
      setLimit(folder, 'cpu.cfs_quota_us', Math.round(limits.cpu * period));
    }
  }
  return groupOf(way, id);
}

function setWeight(folder: string, weight: number): void {
  setLimit(folder, 'cpu.shares', weight);
  setLimit(folder, 'cpu.weight', Math.min(10_000, Math.max(1, Math.round((weight / 1024) * 100))));
}

/** Puts a process (default: this one) into a group of its own, whose weight is above that of all work. */
export function preferOwn(way: LimitsWay, room: keyof typeof ownWeight, name: string, pid = process.pid): void {
  for (const folder of foldersOf(way, `${room}-${name}`)) {
    try {
      mkdirSync(folder, { recursive: true });
      setWeight(folder, ownWeight[room]);
      writeFileSync(join(folder, 'cgroup.procs'), String(pid));
    } catch {
      // A tree that does not let us: the weight of this controller stays what it is.
    }
  }
}

const counterFile = (folders: readonly string[], name: string): string | undefined =>
  folders.map((folder) => join(folder, name)).find((path) => existsSync(path));

/** The number of a `name N` line of a group's file; 0 where there is none. */
function counter(file: string | undefined, name: string): number {
  try {
    const text = file === undefined ? '' : readFileSync(file, 'utf8');
    return Number(new RegExp(`^${name} (\\d+)$`, 'm').exec(text)?.[1] ?? 0);
  } catch {
    return 0;
  }
}

/** The group of a piece of work that was started before; `before` is what was counted in it by then. */
export function groupOf(way: LimitsWay, id: string, before: GroupFacts = noFacts): Group {
  const folders = foldersOf(way, id);
  const [first] = folders;
  const set = (on: boolean) => {
    for (const folder of folders) {
      try {
        setLimit(folder, 'cgroup.freeze', on ? 1 : 0);
        setLimit(folder, 'freezer.state', on ? 'FROZEN' : 'THAWED');
      } catch {
        // It has been removed meanwhile.
      }
    }
  };
  /** Calls back with the processes of the group while none of them runs. */
  const frozen = (work: (pids: number[]) => void) => {
    if (!first) return;
    set(true);
    try {
      work(members(first) ?? []);
    } finally {
      set(false);
    }
  };
  const freezer = folders.find(
    (folder) => existsSync(join(folder, 'cgroup.freeze')) || existsSync(join(folder, 'freezer.state')),
  );
  const stands = (): boolean => {
    if (!freezer) return false;
    try {
      const old = join(freezer, 'freezer.state');
      if (existsSync(old)) return readFileSync(old, 'utf8').trim() === 'FROZEN';
    } catch {
      return false;
    }
    return counter(join(freezer, 'cgroup.events'), 'frozen') === 1;
  };
  const kill = () => {
    if (!first) return;
    try {
      if (existsSync(join(first, 'cgroup.kill'))) return writeFileSync(join(first, 'cgroup.kill'), '1');
    } catch {
      return;
    }
    frozen((pids) => {
      for (const pid of pids) signal(pid, 'SIGKILL');
    });
  };
  let files: { memory: string | undefined; processes: string | undefined } | null = null;
  const total = (): GroupFacts => {
    files ??= {
      memory: counterFile(folders, 'memory.events') ?? counterFile(folders, 'memory.oom_control'),
      processes: counterFile(folders, 'pids.events'),
    };
    return { outOfMemory: counter(files.memory, 'oom_kill'), refusedProcesses: counter(files.processes, 'max') };
  };
  return {
    entries: folders.map((folder) => join(folder, 'cgroup.procs')),
    members: () => (first ? (members(first) ?? []) : []),
    facts() {
      const { outOfMemory, refusedProcesses } = total();
      return {
        outOfMemory: outOfMemory - before.outOfMemory,
        refusedProcesses: refusedProcesses - before.refusedProcesses,
      };
    },
    forget() {
      before = total();
      return before;
    },
    terminate: (spared) =>
      frozen((pids) => {
        for (const pid of pids) {
          const inside = insideIds(pid);
          if (inside.length >= 2 && (inside.at(-1) as number) > spared) signal(pid, 'SIGTERM');
        }
      }),
    kill,
    async freeze(on) {
      if (!freezer) return false;
      set(on);
      for (let tries = 0; tries < 40 && stands() !== on; tries++)
        await new Promise((resolve) => setTimeout(resolve, tries));
      return stands() === on;
    },
    async emptied() {
      for (let tries = 0; first && tries < 20; tries++) {
        // A process leaves all trees at once.
        if (members(first)?.length === 0) return true;
        kill();
        await pause(tries);
      }
      return false;
    },
    async remove() {
      for (let tries = 0; tries < 20; tries++) {
        kill();
        const left = folders.filter((folder) => existsSync(folder) && !removed(folder));
        if (left.length === 0) return;
        await pause(tries);
      }
    },
  };
}

const numberIn = (path: string): number | null => {
  try {
    return Number(readFileSync(path, 'utf8').trim());
  } catch {
    return null;
  }
};

/**
 * What a piece of work has taken: milliseconds of processor time since its group was made, bytes of memory now (without what is only
 * kept of files that it read). Null where nothing holds it together, or it is gone.
 */
export function usageOf(way: LimitsWay, id: string): { cpuMs: number; memory: number } | null {
  const folders = foldersOf(way, id);
  const [first] = folders;
  if (!first) return null;
  const cpu = counterFile(folders, 'cpu.stat');
  const used =
    counter(cpu, 'usage_usec') / 1_000 || (numberIn(join(root, 'cpuacct', nameOf(id), 'cpuacct.usage')) ?? 0) / 1e6;
  const now = counterFile(folders, 'memory.current') ?? counterFile(folders, 'memory.usage_in_bytes');
  const memory = now === undefined ? null : numberIn(now);
  if (memory === null) return null;
  const stat = counterFile(folders, 'memory.stat');
  const kept = counter(stat, 'total_inactive_file') || counter(stat, 'inactive_file');
  return { cpuMs: Math.round(used), memory: Math.max(0, memory - kept) };
}

const pause = (tries: number) => new Promise((resolve) => setTimeout(resolve, 10 * (tries + 1)));

function removed(folder: string): boolean {
  try {
    rmdirSync(folder);
    return true;
  } catch {
    // A process is still on its way out.
    return false;
  }
}

/** Puts all that is in one group into another. Nothing may be started there meanwhile. Throws where that is refused. */
export function moveAll(from: Group, into: Group): void {
  for (const pid of from.members()) for (const entry of into.entries) writeFileSync(entry, String(pid));
}

/** Null where that can't be read. */
function members(folder: string): number[] | null {
  try {
    return readFileSync(join(folder, 'cgroup.procs'), 'utf8').split('\n').filter(Boolean).map(Number);
  } catch {
    return null;
  }
}
