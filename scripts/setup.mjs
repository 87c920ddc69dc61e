#!/usr/bin/env node
/**
 * Makes a checkout ready: system packages, accounts for sandboxed work, npm packages, the build. Each only when it is
 * missing or out of date, so that the second time is quick. `--tests` adds what the tests need.
 */
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import {
  accessSync,
  chmodSync,
  constants,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const tests = process.argv.includes('--tests');
const isRoot = process.getuid?.() === 0;
const say = (text) => process.stderr.write(`${text}\n`);
const fail = (text) => {
  say(text);
  process.exit(1);
};

const [major, minor] = process.versions.node.split('.').map(Number);
if (major < 20 || (major === 20 && minor < 19))
  fail(`Node.js ${process.versions.node} is too old: 20.19 or newer is needed.`);
if (process.platform !== 'linux') fail('This runs on Linux: the sandbox is made of its namespaces.');

const has = (tool) => spawnSync('sh', ['-c', `command -v ${tool}`]).status === 0;
const run = (command, args, options = {}) =>
  spawnSync(command, args, { cwd: root, stdio: ['ignore', 'inherit', 'inherit'], ...options });

/** As the system's own folders call this machine. */
const machine = { x64: 'x86_64', arm64: 'aarch64' }[process.arch] ?? process.arch;

// System packages.
const wanted = [
  ['git', has('git')],
  ['postgresql', existsSync('/usr/lib/postgresql') || has('initdb')],
  ['bubblewrap', has('bwrap')],
  ['passt', has('pasta')],
  ['iproute2', has('ip')],
  // What a sandbox may have of connections to a shared server.
  ['iptables', has('iptables-restore')],
  ['util-linux', has('setpriv') && has('unshare') && has('fallocate')],
  ['mount', has('mount') && has('losetup')],
  // File systems of volumes.
  ['e2fsprogs', has('mkfs.ext4') && has('resize2fs')],
  // Sandboxes see the system's own tools: one elsewhere on PATH does not help.
  ...(tests
    ? [
        ['chromium', has('chromium')],
        // For its promtool, which judges figures.
        ['prometheus', has('promtool')],
        // A certificate authority that speaks ACME.
        ['pebble', has('pebble')],
        // A receiver of logs by syslog, over TLS too.
        ['rsyslog', existsSync('/usr/sbin/rsyslogd')],
        ['rsyslog-gnutls', existsSync(`/usr/lib/${machine}-linux-gnu/rsyslog/lmnsd_gtls.so`)],
        ['python3', existsSync('/usr/bin/python3')],
        // What reads images and takes them to a registry, and a registry.
        ['skopeo', has('skopeo')],
        ['docker-registry', has('docker-registry')],
        ['curl', has('curl')],
        ['openjdk-17-jdk-headless', existsSync('/usr/bin/javac')],
      ]
    : []),
];
const missing = wanted.filter(([, there]) => !there).map(([name]) => name);
if (missing.length) {
  const install = `apt-get install -y --no-install-recommends ${missing.join(' ')}`;
  if (!isRoot || !has('apt-get'))
    fail(`These packages are missing: ${missing.join(', ')}.\nInstall them:  sudo ${install}`);
  say(`Installing ${missing.join(', ')} …`);
  const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
  const quiet = { stdio: ['ignore', 'ignore', 'inherit'], env };
  if (
    run('apt-get', ['install', '-y', '-qq', '--no-install-recommends', ...missing], { stdio: 'ignore', env }).status !==
    0
  ) {
    run('apt-get', ['update', '-qq'], quiet);
    if (run('apt-get', ['install', '-y', '-qq', '--no-install-recommends', ...missing], quiet).status !== 0)
      fail(`The packages could not be installed.\nInstall them:  ${install}`);
  }
}

// Accounts: sandboxed work never runs as root, nor do the service and the edge.
if (isRoot) {
  const accounts = readFileSync('/etc/passwd', 'utf8');
  for (const name of ['tsunagi-work', 'tsunagi-live', 'tsunagi-service', 'tsunagi-edge']) {
    if (accounts.includes(`\n${name}:`)) continue;
    if (
      run('useradd', [
        '--system',
        '--no-create-home',
        '--home-dir',
        '/nonexistent',
        '--shell',
        '/usr/sbin/nologin',
        '--user-group',
        name,
      ]).status !== 0
    )
      fail(`The account ${name} could not be made.`);
  }
  // The mode that device managers give it; some small machines leave it to root, and sandboxes then have no outside.
  try {
    if ((statSync('/dev/net/tun').mode & 0o006) !== 0o006) chmodSync('/dev/net/tun', 0o666);
  } catch {
    say('There is no /dev/net/tun: programs in sandboxes will not reach the outside.');
  }
}

// npm packages, when the lock file has changed.
const stamps = join(root, 'node_modules', '.tsunagi');
const stamp = (name) => (existsSync(join(stamps, name)) ? readFileSync(join(stamps, name), 'utf8') : '');
const setStamp = (name, value) => {
  mkdirSync(stamps, { recursive: true });
  writeFileSync(join(stamps, name), value);
};
const digest = (...parts) =>
  parts.reduce((hash, part) => hash.update(part).update('\0'), createHash('sha256')).digest('hex');
const lock = digest(readFileSync(join(root, 'package-lock.json')), process.versions.node);
if (stamp('lock') !== lock) {
  say('Installing npm packages …');
  // Some registries do not carry the optional packages of other platforms, which `npm ci` wants in the lock file all the same;
  // `npm install` then installs the locked versions of those that are needed here.
  const quiet = { stdio: 'ignore' };
  const installed =
    run('npm', ['ci', '--no-audit', '--no-fund'], quiet).status === 0 ||
    run('npm', ['install', '--no-save', '--no-audit', '--no-fund', '--loglevel=error']).status === 0;
  if (!installed) fail('The npm packages could not be installed.\nSee why:  npm ci');
  setStamp('lock', lock);
}

// The build, when a source has changed.
const files = (folder) =>
  readdirSync(join(root, folder), { withFileTypes: true })
    .sort((a, b) => (a.name < b.name ? -1 : 1))
    .flatMap((entry) => (entry.isDirectory() ? files(join(folder, entry.name)) : [join(folder, entry.name)]));
const sources = ['src', 'console', 'demo', 'bench', 'scripts']
  .flatMap(files)
  .concat('package.json', 'package-lock.json', 'tsconfig.json', 'tsconfig.build.json');
const built = digest(...sources.flatMap((file) => [file, readFileSync(join(root, file))]));
const whole = () => {
  try {
    for (const file of ['dist/tsunagi.js', 'dist/console/index.html', 'dist/rooms/enter.js'])
      accessSync(join(root, file), constants.R_OK);
    return true;
  } catch {
    return false;
  }
};
if (stamp('build') !== built || !whole()) {
  say('Building …');
  if (run(process.execPath, ['scripts/build.mjs']).status !== 0) fail('The build failed.');
  setStamp('build', built);
}
