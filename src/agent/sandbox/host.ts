/** What this machine offers to a sandbox, found out by trying. */
import { execFileSync, spawnSync } from 'node:child_process';
import { accessSync, constants, existsSync, readFileSync, statSync } from 'node:fs';
import { issue, type Issue } from '../../core/errors/errors.js';

/** An account that work runs as, or null: as whoever started the agent. */
export interface Account {
  name: string;
  uid: number;
  gid: number;
}

export interface Accounts {
  /** For attempts; owns the stored layers. */
  work: Account | null;
  /** For instances. */
  live: Account | null;
}

/** How named ports and the outside are reached: `pasta`, or a relay over Unix sockets (no outside). */
export type NetworkWay = 'pasta' | 'relay';
export type LimitsWay = 'cgroup v1' | 'cgroup v2' | 'none';

export interface Host {
  accounts: Accounts;
  network: NetworkWay;
  limits: LimitsWay;
  /** For attempts. */
  attempt: AttemptBounds;
}

/** What an attempt may take of this machine, besides its group's limits. */
export interface AttemptBounds {
  memory: number;
  processes: number;
  cpu: number | null;
  /** Bytes and files that it may write into the project's folder and its caches; no single file may be longer, either. */
  disk: number;
  files: number;
  /** Bytes that it may write into /tmp and HOME each. */
  tmp: number;
  /** Bytes that its databases may take together. */
  database: number;
}

export const defaultAttempt: AttemptBounds = {
  memory: 6 * 1024 ** 3,
  processes: 512,
  cpu: null,
  disk: 20 * 1024 ** 3,
  files: 1_000_000,
  tmp: 4 * 1024 ** 3,
  database: 4 * 1024 ** 3,
};

export const accountNames = { work: 'tsunagi-work', live: 'tsunagi-live' } as const;

/** The accounts, when root; throws `sandbox_missing` where set-up has not made them. */
export function findAccounts(): Accounts {
  if (process.getuid?.() !== 0) return { work: null, live: null };
  const passwd = readFileSync('/etc/passwd', 'utf8');
  const find = (name: string): Account | null => {
    const found = new RegExp(`^${name}:[^:]*:(\\d+):(\\d+):`, 'm').exec(passwd);
    return found ? { name, uid: Number(found[1]), gid: Number(found[2]) } : null;
  };
  return { work: find(accountNames.work), live: find(accountNames.live) };
}

/** Why no work can be done on this machine, or null. */
export function missingParts(accounts: Accounts): Issue | null {
  const has = (tool: string) => spawnSync('sh', ['-c', `command -v ${tool}`]).status === 0;
  for (const [tool, pack] of [
    ['bwrap', 'bubblewrap'],
    ['unshare', 'util-linux'],
    ['setpriv', 'util-linux'],
    ['ip', 'iproute2'],
    ['tar', 'tar'],
  ] as const) {
    if (!has(tool)) return issue('tool_missing', { tool, command: `apt-get install -y ${pack}` });
  }
  if (process.getuid?.() === 0 && (!accounts.work || !accounts.live))
    return issue('sandbox_missing', {
      why: 'the accounts for sandboxed work are missing.',
      hint: 'Make them: npm run setup',
    });
  const tried = spawnSync('unshare', ['-Ur', 'true'], asAccount(accounts.work));
  if (tried.status !== 0) {
    const setting =
      existsSync('/proc/sys/kernel/unprivileged_userns_clone') &&
      readFileSync('/proc/sys/kernel/unprivileged_userns_clone', 'utf8').trim() === '0'
        ? 'sysctl -w kernel.unprivileged_userns_clone=1'
        : existsSync('/proc/sys/kernel/apparmor_restrict_unprivileged_userns')
          ? 'sysctl -w kernel.apparmor_restrict_unprivileged_userns=0'
          : 'sysctl -w user.max_user_namespaces=10000';
    return issue('sandbox_missing', {
      why: 'unprivileged user namespaces are switched off.',
      hint: `Allow them: ${setting}`,
    });
  }
  return null;
}

const asAccount = (account: Account | null) => (account ? { uid: account.uid, gid: account.gid } : {});

/** The command that begins a call as an account. */
export const prefixOf = (account: Account | null): string[] =>
  account
    ? ['setpriv', '--reuid', String(account.uid), '--regid', String(account.gid), '--clear-groups', '--no-new-privs']
    : ['setpriv', '--no-new-privs'];

/** Tries pasta once; where it can't start (no routable interface, no device), the relay is used. */
export function findNetwork(account: Account | null): NetworkWay {
  try {
    const [command = '', ...before] = prefixOf(account);
    execFileSync(
      command,
      [
        ...before,
        'pasta',
        '--config-net',
        '--no-map-gw',
        '-t',
        'none',
        '-u',
        'none',
        '-T',
        'none',
        '-U',
        'none',
        '-f',
        '--',
        'true',
      ],
      {
        stdio: 'ignore',
        timeout: 10_000,
      },
    );
    return 'pasta';
  } catch {
    return 'relay';
  }
}

export function findLimits(): LimitsWay {
  const writable = (path: string) => {
    try {
      accessSync(path, constants.W_OK);
      return statSync(path).isDirectory();
    } catch {
      return false;
    }
  };
  if (existsSync('/sys/fs/cgroup/cgroup.controllers')) return writable('/sys/fs/cgroup') ? 'cgroup v2' : 'none';
  return writable('/sys/fs/cgroup/memory') && writable('/sys/fs/cgroup/pids') ? 'cgroup v1' : 'none';
}
