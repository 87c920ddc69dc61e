/**
 * One piece of work in its sandbox: its private folder, the files that say what runs, and the call that starts the chain of processes.
 *
 * The call (`ChainFrame`) and what runs (`ChainWork`) are apart, so that a chain can stand ready before its work is known.
 */
import {
  chmodSync,
  chownSync,
  copyFileSync,
  existsSync,
  mkdirSync,
  readFileSync,
  realpathSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type Account, type NetworkWay, prefixOf } from './host.js';
import { makeMountPoints } from './mounts.js';
import { basicNames, bubblewrapOptions, etc, namesAddress, pastaOptions, relayLines } from './options.js';
import { seccompProgram } from './seccomp.js';
import { type ChainFrame, type ChainNetwork, type ChainWork, runnerPath } from './work.js';

/** What an instance runs: lets people in beside its program, and becomes that. */
export const besideCommand = (start: string): string[] => [
  'bash',
  '-c',
  textOf('beside.sh'),
  'beside',
  textOf('hand.sh'),
  start,
];

/** `hand.sh` with its words. */
export const handCommand = (words: readonly string[]): string[] => ['bash', '-c', textOf('hand.sh'), 'hand', ...words];

const texts = new Map<string, string>();
function textOf(script: string): string {
  const text = texts.get(script) ?? readFileSync(scriptPath(script), 'utf8');
  texts.set(script, text);
  return text;
}

const scripts = ['launch.sh', 'inner.sh', 'starter.sh', 'relay.mjs'];

/** Copies the scripts to where every account can read them. */
export function installScripts(bin: string): void {
  mkdirSync(bin, { recursive: true, mode: 0o755 });
  for (const script of scripts) copyFileSync(scriptPath(script), join(bin, script));
  for (const [name, text] of Object.entries({ ...etc, ...namesOf(noNetwork) }))
    writeFileSync(join(bin, name), text, { mode: 0o644 });
  mkdirSync(join(bin, 'empty'), { recursive: true, mode: 0o755 });
  // Who may execute a program and not read it can't look into its process: the descriptors of the runner stay its own.
  const runner = join(bin, 'runner');
  rmSync(runner, { force: true });
  copyFileSync(realpathSync('/bin/bash'), runner);
  chmodSync(runner, 0o111);
  rmSync(join(bin, 'seccomp'), { force: true });
  const filter = seccompProgram(process.arch);
  if (filter) writeFileSync(join(bin, 'seccomp'), filter, { mode: 0o644 });
}

/** `wait`: for a line on standard input; then the project's folder is there. */
export function runnerCommand(begins: 'wait' | 'now'): string[] {
  return [runnerPath, '-c', textOf('runner.sh'), 'runner', begins];
}

export interface RunnerTask {
  /** Stands between the commands' output, and behind what is handed out. */
  mark: string;
  /** Paths of files, or null. */
  results: string | null;
  coverage: string | null;
  outputs: readonly string[];
  variables: Readonly<Record<string, string>>;
  commands: readonly string[];
}

/** What the runner is told: fields that are ended by a zero byte each, lists with their length before them. */
export function runnerFields({ mark, results, coverage, outputs, variables, commands }: RunnerTask): string {
  const list = (items: readonly string[]) => [String(items.length), ...items];
  const own = Object.entries(variables).filter(([name]) => !basicNames.includes(name as never));
  const pairs = own.map(([name, value]) => `${name}=${value}`);
  return words([mark, results ?? '', coverage ?? '', ...list(outputs), ...list(pairs), ...list(commands)]);
}

/** Beside this file in the sources, beside the bundle when built. */
function scriptPath(name: string): string {
  const here = dirname(fileURLToPath(import.meta.url));
  const beside = join(here, name);
  return existsSync(beside) ? beside : join(here, 'sandbox', name);
}

/** Makes the work's private folder with what the chain expects in it. */
export function prepareFolder(folder: string, account: Account | null): void {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  for (const name of ['', 'u', 'w', 'm']) {
    const path = join(folder, name);
    if (name) mkdirSync(path, { recursive: true, mode: 0o755 });
    if (account) chownSync(path, account.uid, account.gid);
  }
}

/** Writes down what is the same for all chains that stand ready: with the runner, and without a network. */
export function writeReady(bin: string, tmp: number | null): void {
  const work: ChainWork = {
    layers: [],
    writable: true,
    variables: {},
    network: { ...noNetwork, listen: null, through: [] },
    tmp,
    binds: [],
    command: runnerCommand('wait'),
  };
  writeFileSync(join(bin, 'options'), words(bubblewrapOptions(work, true, bin, false)), { mode: 0o644 });
  writeFileSync(join(bin, 'command'), words(work.command), { mode: 0o644 });
}

/** How a piece of work must be tied on a machine that does it `way`. */
export const networkOf = (work: Pick<ChainWork, 'network'>, way: NetworkWay): ChainNetwork =>
  work.network.open || work.network.listen || work.network.reach.length || work.network.only.length ? way : 'none';

/** The files by which names are found: the same for all work that reaches nothing. */
const namesOf = (
  network: Pick<ChainWork['network'], 'open' | 'reach' | 'only'>,
  way?: ChainNetwork,
): Record<string, string> => ({
  hosts: [
    '127.0.0.1 localhost',
    '::1 localhost',
    ...network.reach.map((one) => `127.0.0.1 ${one.host}`),
    // A relay brings them to the loopback of the work.
    ...network.only.map((one) => `${way === 'relay' ? '127.0.0.1' : one.address} ${one.host}`),
    '',
  ].join('\n'),
  'resolv.conf': network.open && way === 'pasta' ? `nameserver ${namesAddress}\n` : '',
});

const noNetwork = { open: false, reach: [], only: [], bounded: [] };

/** Connections of one sandbox to one server that others use as well. */
const mostConnections = 32;

/** Rules in the form of iptables-restore(8): one more connection at a time is reset. */
const boundLines = (ports: readonly number[]): string =>
  [
    '*filter',
    ...[...new Set(ports)].map(
      (port) =>
        `-A OUTPUT -p tcp --syn --dport ${port} -m connlimit --connlimit-above ${mostConnections} --connlimit-mask 0 -j REJECT --reject-with tcp-reset`,
    ),
    'COMMIT',
    '',
  ].join('\n');

const words = (list: readonly string[]) => `${list.join('\0')}\0`;

type ChainPlace = Pick<ChainFrame, 'folder' | 'account' | 'network'>;

function put({ folder, account }: ChainPlace, name: string, text: string): void {
  const path = join(folder, name);
  writeFileSync(path, text, { mode: 0o600 });
  if (account) chownSync(path, account.uid, account.gid);
}

/** Writes down how the chain of this folder is tied. */
export function writeNetwork(place: ChainPlace, network: ChainWork['network']): void {
  const { network: way } = place;
  if (isTied(network)) for (const [name, text] of Object.entries(namesOf(network, way))) put(place, name, text);
  if (way === 'pasta') {
    put(place, 'pasta', `${pastaOptions({ network }).join('\n')}\n`);
    if (network.open) put(place, 'open', `${network.through.join('\n')}\n`);
    else if (network.only.length)
      put(place, 'only', network.only.map(({ address, port }) => `${address} ${port}\n`).join(''));
  }
  if (way !== 'none' && network.bounded.length) put(place, 'bounded', boundLines(network.bounded));
  if (way === 'relay') put(place, 'relays', `${relayLines({ network }).join('\n')}\n`);
}

const isTied = ({ open, reach, only }: ChainWork['network']) => open || reach.length > 0 || only.length > 0;

/** Writes down what runs, for the chain of this folder. */
export function writeChain(place: ChainPlace, work: ChainWork, bin: string): void {
  const { folder, account, network: way } = place;
  makeMountPoints(folder, work, account);
  writeNetwork(place, work.network);
  put(place, 'options', words(bubblewrapOptions(work, way === 'none', bin, isTied(work.network))));
  put(place, 'command', words(work.command));
  put(place, 'lower', lowerOf(folder, work.layers, bin));
  const shown = work.binds.filter((one) => !one.fixed).map(({ from }) => `${identityOf(from)} ${from}\n`);
  if (shown.length) put(place, 'shown', shown.join(''));
}

/** Device and number of a folder: of a mounted file system another one than of the folder below it. */
function identityOf(path: string): string {
  const { dev, ino } = statSync(path);
  return `${dev}:${ino}`;
}

/** What the overlay lies upon. Two folders at least, or a mount without an upper one is refused; the leftmost is on top. */
export const lowerOf = (folder: string, layers: readonly string[], bin: string): string =>
  [...layers]
    .reverse()
    .concat(join(bin, 'empty'))
    .map((path) => relativeTo(folder, path))
    .join(':');

/** What surrounds a chain: nothing of the agent's own. */
export function chainEnvironment({ file, processes, memory }: ChainFrame['rlimits']): Record<string, string> {
  return {
    PATH: '/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin',
    LC_ALL: 'C.UTF-8',
    NODE: process.execPath,
    // In the units of the shell's ulimit: KiB.
    TSUNAGI_FILE: String(Math.ceil(file / 1024)),
    TSUNAGI_PROCESSES: processes === null ? '' : String(processes),
    TSUNAGI_MEMORY: memory === null ? '' : String(Math.ceil(memory / 1024)),
  };
}

/** Program and arguments that make a chain. */
export function chainWords(frame: ChainFrame, bin: string): string[] {
  const { network, runs } = frame;
  const before = [...prefixOf(frame.account), ...(frame.tied ? ['--pdeathsig', 'KILL'] : [])];
  const mode = frame.writable ? 'write' : 'read';
  // With no network to tie, and nobody to keep it alive, nothing needs to stand beside it.
  if (network === 'none' && frame.tied)
    return [
      ...before,
      'unshare',
      '-Urm',
      '--propagation',
      'shared',
      'bash',
      join(bin, 'inner.sh'),
      network,
      mode,
      runs,
    ];
  const lease = frame.watchLease ? 'watch' : '-';
  return [...before, 'bash', join(bin, 'launch.sh'), frame.folder, network, lease, mode, runs];
}

/** The call that starts a chain from here: program, arguments, environment. */
export function chainCall(
  frame: ChainFrame,
  bin: string,
): { file: string; args: string[]; env: Record<string, string> } {
  const words = chainWords(frame, bin);
  const env = chainEnvironment(frame.rlimits);
  if (frame.group.entries.length === 0) return { file: words[0] as string, args: words.slice(1), env };
  // The files of cgroups are root's: the process enters before it drops its rights.
  return {
    file: '/bin/sh',
    args: ['-c', 'for f in $TSUNAGI_GROUPS; do echo $$ >"$f"; done; unset TSUNAGI_GROUPS; exec "$@"', 'sh', ...words],
    env: { ...env, TSUNAGI_GROUPS: frame.group.entries.join(' ') },
  };
}

function relativeTo(folder: string, path: string): string {
  if (path.startsWith(`${folder}/`)) return path.slice(folder.length + 1);
  // work/ID, layers/NAME and bin/empty have the same grandparent.
  const root = dirname(dirname(folder));
  return path.startsWith(`${root}/`) ? `../../${path.slice(root.length + 1)}` : path;
}

/** Makes a folder that an account owns. */
export function ownFolder(path: string, account: Account | null, mode: number): void {
  mkdirSync(path, { recursive: true });
  chmodSync(path, mode);
  if (account) chownSync(path, account.uid, account.gid);
}
