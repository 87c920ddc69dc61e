/** What a chain of processes is told: the call that starts it, and what runs in it. */
import type { Account, NetworkWay } from './host.js';
import type { Group } from './limits.js';

/** How the chain is tied to the world; `none`: its own loopback alone. */
export type ChainNetwork = NetworkWay | 'none';

export interface ChainFrame {
  /** Private folder, made by `prepareFolder`. */
  folder: string;
  account: Account | null;
  network: ChainNetwork;
  writable: boolean;
  /** Ends the work when its lease file is old. */
  watchLease: boolean;
  group: Group;
  /** Ends with the agent. */
  tied: boolean;
  /**
   * What is run: `told`: the runner, which is told on standard input what it is to do; `ready`: the same, all of it made before its work
   * is known: it stands and waits for that; `held`: a program that asks for nothing, whose network is tied before it is known: a line on
   * standard input says that it is written down, and how many KiB a file of it may have.
   */
  runs: 'told' | 'ready' | 'held';
  /** Bytes of one file at most, and, where no cgroup holds them, processes in the sandbox and bytes of memory each. */
  rlimits: { file: number; processes: number | null; memory: number | null };
}

export interface ChainWork {
  /** Folders of layers, the lowest first. */
  layers: string[];
  writable: boolean;
  variables: Record<string, string>;
  network: {
    /** The outside may be reached. */
    open: boolean;
    /** Address and port under which the work's port of the same number is reached, or null. */
    listen: { address: string; port: number } | null;
    /** Ports of this machine's loopback that it may reach, with the names that lead there. */
    reach: { port: number; host: string }[];
    /** Addresses of other machines that may be reached though they are private, where the outside may. */
    through: string[];
    /** Where it may not: these ports of these addresses, and nothing else outside; with the names that lead there. */
    only: { port: number; host: string; address: string }[];
    /** Ports to which it may have few connections at a time: servers that others use as well. */
    bounded: number[];
  };
  /** Bytes that /tmp and HOME may hold each; null: half of the machine's memory. */
  tmp: number | null;
  /** Folders of this machine that are seen, and may be written unless they are fixed, at another place. */
  binds: { from: string; to: string; fixed?: true }[];
  command: string[];
}

/** Where the shell that runs an attempt's commands lies in the sandbox. */
export const runnerPath = '/run/tsunagi-runner';
