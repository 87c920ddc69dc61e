/**
 * Places for chains: a group that holds one to its limits, and the named pipes between it and the agent. To make these costs more
 * than what most work does; a place is used again once nothing of the chain before is left in it.
 */
import { execFile } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { chownSync, mkdirSync } from 'node:fs';
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import type { Account, Host } from './host.js';
import { attemptLimits, type Group, type Limits, makeGroup } from './limits.js';

const run = promisify(execFile);

/** As `starter.sh` names them. */
export const pipeNames = ['in', 'out', 'err', '3', '4', '5'] as const;

export interface Place {
  /** Of the group. */
  id: string;
  group: Group;
  /** Folder of the named pipes. */
  pipes: string;
  /** It is used once: it belongs to another account than the others, or has other limits. */
  once: boolean;
}

export interface Places {
  /** `account`: who opens the pipes; default: the account of attempts. `limits`: those of its group; default: those of attempts. */
  take(account?: Account | null, limits?: Limits): Promise<Place>;
  /** Ends what is left in it; where all of it is gone it is kept for another chain, up to so many as were open at once. */
  giveBack(place: Place): Promise<void>;
  close(): Promise<void>;
}

/** `folder` holds one folder of pipes for each. */
export function openPlaces(folder: string, host: Host, spare: number): Places {
  const free: Place[] = [];
  let closed = false;

  const usual = attemptLimits(host.attempt);
  const make = async (account: Account | null, limits: Limits, once: boolean): Promise<Place> => {
    const id = randomUUID();
    const pipes = join(folder, id);
    mkdirSync(pipes, { recursive: true, mode: 0o700 });
    const paths = pipeNames.map((name) => join(pipes, name));
    await run('mkfifo', ['-m', '600', ...paths]);
    // Programs open /dev/stdout again: so their account has to be its owner.
    if (account) for (const path of paths) chownSync(path, account.uid, account.gid);
    return { id, group: makeGroup(host.limits, id, limits), pipes, once };
  };
  const remove = async ({ group, pipes }: Place): Promise<void> => {
    await group.remove();
    await rm(pipes, { recursive: true, force: true });
  };
  return {
    async take(account = host.accounts.work, limits = usual) {
      if (account !== host.accounts.work || limits !== usual) return make(account, limits, true);
      return free.pop() ?? make(account, limits, false);
    },
    async giveBack(place) {
      if ((await place.group.emptied()) && !closed && !place.once && free.length < spare) free.push(place);
      else await remove(place);
    },
    async close() {
      closed = true;
      await Promise.all(free.splice(0).map(remove));
    },
  };
}
