/** One piece of work in its sandbox: its private folder, bubblewrap's options, and the call that starts it. */
import { chmodSync, chownSync, copyFileSync, existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type Account, type Host, prefixOf } from './host.js';
import type { Group } from './limits.js';

export interface ChainSpec {
  /** Private folder, made by `prepareFolder`. */
  folder: string;
  account: Account | null;
  host: Host;
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
  };
  /** Ends the work when its lease file is old. */
  watchLease: boolean;
  group: Group;
  /** Ends with the agent. */
  tied: boolean;
  command: string[];
}

const scripts = ['launch.sh', 'inner.sh', 'relay.mjs'];

/** Files of /etc that are the same in every sandbox: nothing of the machine's own shows. */
const etc = {
  passwd:
    'root:x:0:0:root:/nonexistent:/usr/sbin/nologin\ntsunagi:x:1000:1000:tsunagi:/home/tsunagi:/bin/bash\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n',
  group: 'root:x:0:\ntsunagi:x:1000:\nnogroup:x:65534:\n',
  'nsswitch.conf': 'passwd: files\ngroup: files\nhosts: files dns\n',
};

/** Copies the scripts to where every account can read them. */
export function installScripts(bin: string): void {
  mkdirSync(bin, { recursive: true, mode: 0o755 });
  for (const script of scripts) copyFileSync(scriptPath(script), join(bin, script));
  for (const [name, text] of Object.entries(etc)) writeFileSync(join(bin, name), text, { mode: 0o644 });
}

export const runnerText = (): string => readFileSync(scriptPath('runner.sh'), 'utf8');

/** Beside this file in the sources, beside the bundle when built. */
function scriptPath(name: string): string {
  const here = dirname(fileURLToPath(import.meta.url));
  const beside = join(here, name);
  return existsSync(beside) ? beside : join(here, 'sandbox', name);
}

/** Makes the work's private folder with what the chain expects in it. */
export function prepareFolder(folder: string, account: Account | null): void {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  for (const name of ['', 'u', 'w', 'm', 'empty']) {
    const path = join(folder, name);
    if (name) mkdirSync(path, { recursive: true, mode: 0o755 });
    if (account) chownSync(path, account.uid, account.gid);
  }
}

/** Writes the chain's files and gives the call: program, arguments, environment. */
export function chainCall(spec: ChainSpec, bin: string): { file: string; args: string[]; env: Record<string, string> } {
  const { folder, account, host, network } = spec;
  const way = network.open || network.listen || network.reach.length ? host.network : 'none';
  const put = (name: string, text: string) => {
    const path = join(folder, name);
    writeFileSync(path, text, { mode: 0o600 });
    if (account) chownSync(path, account.uid, account.gid);
  };
  put('hosts', ['127.0.0.1 localhost', '::1 localhost', ...network.reach.map((one) => `127.0.0.1 ${one.host}`), ''].join('\n'));
  put('resolv.conf', network.open && way === 'pasta' ? resolvers() : '');
  put('options', `${bubblewrapOptions(spec, way === 'none', bin).join('\0')}\0`);
  if (way === 'pasta') {
    put('pasta', `${pastaOptions(spec).join('\n')}\n`);
    if (network.open) put('open', '');
  }
  if (way === 'relay') put('relays', `${relayLines(spec).join('\n')}\n`);
  // Two lower folders at least, or a mount without an upper one is refused; the leftmost is on top.
  const lower = [...spec.layers]
    .reverse()
    .concat(join(folder, 'empty'))
    .map((path) => relativeTo(folder, path))
    .join(':');
  const call = [
    ...prefixOf(account),
    ...(spec.tied ? ['--pdeathsig', 'KILL'] : []),
    'bash',
    join(bin, 'launch.sh'),
    folder,
    way,
    spec.watchLease ? 'watch' : '-',
    lower,
    spec.writable ? 'write' : 'read',
    '--',
    ...spec.command,
  ];
  const env = { PATH: '/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin', LC_ALL: 'C.UTF-8', NODE: process.execPath };
  if (spec.group.entries.length === 0) return { file: call[0] as string, args: call.slice(1), env };
  // The files of cgroups are root's: the process enters before it drops its rights.
  return {
    file: '/bin/sh',
    args: ['-c', 'for f in $TSUNAGI_GROUPS; do echo $$ >"$f"; done; unset TSUNAGI_GROUPS; exec "$@"', 'sh', ...call],
    env: { ...env, TSUNAGI_GROUPS: spec.group.entries.join(' ') },
  };
}

function relativeTo(folder: string, path: string): string {
  if (path.startsWith(`${folder}/`)) return path.slice(folder.length + 1);
  // work/ID and layers/NAME have the same grandparent.
  const root = dirname(dirname(folder));
  return path.startsWith(`${root}/`) ? `../../${path.slice(root.length + 1)}` : path;
}

const systemFolders = ['bin', 'sbin', 'lib', 'lib32', 'lib64', 'libx32'];
const systemFiles = [
  'ssl',
  'ca-certificates',
  'alternatives',
  'ld.so.cache',
  'ld.so.conf',
  'ld.so.conf.d',
  'localtime',
  'mime.types',
  'java-17-openjdk',
  'maven',
  'python3',
  'python3.11',
];

function bubblewrapOptions(spec: ChainSpec, ownLoopback: boolean, bin: string): string[] {
  const options = [
    '--unshare-user',
    '--uid',
    '1000',
    '--gid',
    '1000',
    '--unshare-pid',
    '--unshare-ipc',
    '--unshare-uts',
    '--hostname',
    'tsunagi',
    '--die-with-parent',
    '--new-session',
    '--cap-drop',
    'ALL',
    '--info-fd',
    '8',
  ];
  if (ownLoopback) options.push('--unshare-net');
  options.push('--ro-bind', '/usr', '/usr');
  for (const name of systemFolders) if (existsSync(`/${name}`)) options.push('--symlink', `usr/${name}`, `/${name}`);
  options.push(
    '--proc',
    '/proc',
    '--dev',
    '/dev',
    '--tmpfs',
    '/tmp',
    '--tmpfs',
    '/etc',
    '--dir',
    '/home',
    '--tmpfs',
    '/home/tsunagi',
    '--tmpfs',
    '/run',
    '--dir',
    '/var',
    '--tmpfs',
    '/var/tmp',
  );
  for (const name of ['hosts', 'resolv.conf']) options.push('--ro-bind', name, `/etc/${name}`);
  for (const name of Object.keys(etc)) options.push('--ro-bind', join(bin, name), `/etc/${name}`);
  for (const name of systemFiles) options.push('--ro-bind-try', `/etc/${name}`, `/etc/${name}`);
  options.push('--remount-ro', '/etc');
  const ownNode = !process.execPath.startsWith('/usr/');
  if (ownNode) options.push('--dir', '/opt', '--ro-bind', dirname(dirname(process.execPath)), '/opt/node');
  options.push(spec.writable ? '--bind' : '--ro-bind', 'm', '/project', '--chdir', '/project', '--clearenv');
  const basics = { PATH: `${ownNode ? '/opt/node/bin:' : ''}/usr/local/bin:/usr/bin:/bin`, HOME: '/home/tsunagi', TMPDIR: '/tmp' };
  for (const [name, value] of Object.entries({ ...spec.variables, ...basics })) options.push('--setenv', name, value);
  return options;
}

function pastaOptions({ network }: ChainSpec): string[] {
  const reach = network.reach.map((one) => String(one.port));
  return [
    ...(network.open ? ['--config-net'] : []),
    '--no-map-gw',
    ...['-t', network.listen ? `${network.listen.address}/${network.listen.port}:${network.listen.port}` : 'none'],
    ...['-u', 'none'],
    ...['-T', reach.length ? reach.join(',') : 'none'],
    ...['-U', 'none'],
  ];
}

function relayLines({ network }: ChainSpec): string[] {
  const lines = network.reach.flatMap((one) => [
    `outside unix:out-${one.port}.sock tcp:127.0.0.1:${one.port}`,
    `inside tcp:127.0.0.1:${one.port} unix:out-${one.port}.sock`,
  ]);
  if (network.listen)
    lines.push(`outside tcp:${network.listen.address}:${network.listen.port} unix:in.sock`, `inside unix:in.sock tcp:127.0.0.1:${network.listen.port}`);
  return lines;
}

/** The machine's resolvers; a stub on loopback, which the sandbox can't reach, is replaced by those behind it. */
function resolvers(): string {
  const read = (path: string) => (existsSync(path) ? readFileSync(path, 'utf8') : '');
  const text = read('/etc/resolv.conf');
  return /^nameserver\s+(127\.|::1)/m.test(text) ? read('/run/systemd/resolve/resolv.conf') || text : text;
}

/** Makes a folder that an account owns. */
export function ownFolder(path: string, account: Account | null, mode: number): void {
  mkdirSync(path, { recursive: true });
  chmodSync(path, mode);
  if (account) chownSync(path, account.uid, account.gid);
}
