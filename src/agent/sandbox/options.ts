/** What bubblewrap, pasta and the relay are told about one piece of work. */
import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { type ChainWork, runnerPath } from './work.js';

/** Files of /etc that are the same in every sandbox: nothing of the machine's own shows. */
export const etc = {
  passwd:
    'root:x:0:0:root:/nonexistent:/usr/sbin/nologin\ntsunagi:x:1000:1000:tsunagi:/home/tsunagi:/bin/bash\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n',
  group: 'root:x:0:\ntsunagi:x:1000:\nnogroup:x:65534:\n',
  'nsswitch.conf': 'passwd: files\ngroup: files\nhosts: files dns\n',
};

/** Bytes of what no work needs to write to. */
const smallTmp = 16 * 1024 ** 2;

const systemFolders = ['bin', 'sbin', 'lib', 'lib32', 'lib64', 'libx32'];
const systemFiles = [
  'ssl',
  'ca-certificates',
  'alternatives',
  'fonts',
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

/** Variables that are the sandbox's own, whatever the work says. */
export const basicNames = ['PATH', 'HOME', 'TMPDIR'] as const;

/** `ownNames`: the files by which names are found lie in the work's folder. */
export function bubblewrapOptions(spec: ChainWork, ownLoopback: boolean, bin: string, ownNames: boolean): string[] {
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
  if (existsSync(join(bin, 'seccomp'))) options.push('--seccomp', '7');
  if (ownLoopback) options.push('--unshare-net');
  options.push('--ro-bind', '/usr', '/usr');
  for (const name of systemFolders) if (existsSync(`/${name}`)) options.push('--symlink', `usr/${name}`, `/${name}`);
  const size = spec.tmp === null ? [] : ['--size', String(spec.tmp)];
  options.push(
    '--proc',
    '/proc',
    '--dev',
    '/dev',
    ...size,
    '--tmpfs',
    '/tmp',
    '--tmpfs',
    '/etc',
    '--dir',
    '/home',
    ...size,
    '--tmpfs',
    '/home/tsunagi',
  );
  options.push('--size', String(smallTmp), '--tmpfs', '/run', '--dir', '/var', ...size, '--tmpfs', '/var/tmp');
  options.push(...size, '--tmpfs', '/dev/shm');
  for (const name of ['hosts', 'resolv.conf'])
    options.push('--ro-bind', ownNames ? name : join(bin, name), `/etc/${name}`);
  for (const name of Object.keys(etc)) options.push('--ro-bind', join(bin, name), `/etc/${name}`);
  for (const name of systemFiles) options.push('--ro-bind-try', `/etc/${name}`, `/etc/${name}`);
  options.push('--remount-ro', '/etc', '--ro-bind', join(bin, 'runner'), runnerPath);
  const ownNode = !process.execPath.startsWith('/usr/');
  if (ownNode) options.push('--dir', '/opt', '--ro-bind', dirname(dirname(process.execPath)), '/opt/node');
  options.push(spec.writable ? '--bind' : '--ro-bind', 'm', '/project', '--chdir', '/project', '--clearenv');
  for (const { from, to, fixed } of spec.binds) options.push(fixed ? '--ro-bind' : '--bind', from, to);
  const basics: Record<(typeof basicNames)[number], string> = {
    PATH: `${ownNode ? '/opt/node/bin:' : ''}/usr/local/bin:/usr/bin:/bin`,
    HOME: '/home/tsunagi',
    TMPDIR: '/tmp',
  };
  for (const [name, value] of Object.entries({ ...spec.variables, ...basics })) options.push('--setenv', name, value);
  return options;
}

/** Where a sandbox asks for names: pasta answers there in the place of the machine's resolver, which itself is out of reach. */
export const namesAddress = '169.254.53.53';

/** Several names may lead to one port. */
const portsOf = (reach: readonly { port: number }[]): string[] => [...new Set(reach.map((one) => String(one.port)))];

export function pastaOptions({ network }: Pick<ChainWork, 'network'>): string[] {
  const reach = portsOf(network.reach);
  return [
    ...(network.open || network.only.length ? ['--config-net'] : []),
    ...(network.open ? ['--dns-forward', namesAddress] : []),
    '--no-map-gw',
    ...['-t', network.listen ? `${network.listen.address}/${network.listen.port}:${network.listen.port}` : 'none'],
    ...['-u', 'none'],
    ...['-T', reach.length ? reach.join(',') : 'none'],
    ...['-U', 'none'],
  ];
}

export function relayLines({ network }: Pick<ChainWork, 'network'>): string[] {
  const lines = portsOf(network.reach).flatMap((port) => [
    `outside unix:out-${port}.sock tcp:127.0.0.1:${port}`,
    `inside tcp:127.0.0.1:${port} unix:out-${port}.sock`,
  ]);
  for (const { port, address } of network.open ? [] : network.only)
    lines.push(
      `outside unix:out-${port}.sock tcp:${address}:${port}`,
      `inside tcp:127.0.0.1:${port} unix:out-${port}.sock`,
    );
  if (network.listen)
    lines.push(
      `outside tcp:${network.listen.address}:${network.listen.port} unix:in.sock`,
      `inside unix:in.sock tcp:127.0.0.1:${network.listen.port}`,
    );
  return lines;
}
