/**
 * Accounts of the processes that need no rights of root. Where root starts `serve`, the service and the edge run as accounts of their
 * own: what is read out of one of them does not open the files of the other, of the agent, or of the machine.
 */
import { spawnSync } from 'node:child_process';
import { mkdirSync, readFileSync } from 'node:fs';

/** Made by the set-up. */
export const processAccounts = { service: 'tsunagi-service', edge: 'tsunagi-edge' } as const;

export interface ProcessAccount {
  name: string;
  uid: number;
  gid: number;
}

/** Finds the account of a process, or says why the process runs as root. Null: `serve` is not root, so there is nothing to choose. */
export function findProcessAccount(
  process_: keyof typeof processAccounts,
  code: string,
): { account: ProcessAccount } | { asRoot: string } | null {
  if (process.getuid?.() !== 0) return null;
  const name = processAccounts[process_];
  const found = new RegExp(`^${name}:[^:]*:(\\d+):(\\d+):`, 'm').exec(readFileSync('/etc/passwd', 'utf8'));
  if (!found) return { asRoot: `the account ${name} does not exist. Make it: npm run setup` };
  const account = { name, uid: Number(found[1]), gid: Number(found[2]) };
  const [command = '', ...args] = runAs(account);
  if (spawnSync(command, [...args, 'test', '-r', code]).status !== 0)
    return { asRoot: `the account ${name} cannot read ${code}. Put the program where every account can read it` };
  return { account };
}

/** The words before a call that is made as an account. Of all rights of root it keeps listening on ports below 1024. */
export const runAs = ({ uid, gid }: ProcessAccount): string[] => [
  'setpriv',
  '--reuid',
  String(uid),
  '--regid',
  String(gid),
  '--clear-groups',
  '--no-new-privs',
  '--inh-caps=-all,+net_bind_service',
  '--ambient-caps=-all,+net_bind_service',
  '--bounding-set=-all,+net_bind_service',
];

/**
 * Gives a data folder to an account, with all that is in it: it may have been root's, or restored from a backup.
 * @throws Error with the words of chown(1)
 */
export function giveFolder(folder: string, { uid, gid }: ProcessAccount): void {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const other = spawnSync('find', [folder, '!', '-uid', String(uid), '-print', '-quit'], { encoding: 'utf8' });
  if (other.status === 0 && other.stdout === '') return;
  // Links are changed themselves, never what they name.
  const { status, stderr } = spawnSync('chown', ['-RhP', `${uid}:${gid}`, folder], { encoding: 'utf8' });
  if (status !== 0) throw new Error(`${folder}: ${stderr.trim()}`);
}
