/**
 * A repository elsewhere, reached through the system's git. Only the transport that the address names is allowed, no redirect is
 * followed, and git connects to the very address that was checked: private ranges are refused unless an owner has allowed them.
 */
import { type PullRefs, pullOfRef } from '../core/pull-refs.js';
import { lookup } from 'node:dns/promises';
import { mkdirSync, mkdtempSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { isIP } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import ipaddr from 'ipaddr.js';
import { CodedError, type ErrorCode } from '../core/errors/errors.js';
import { git, GitError, type GitOptions } from './command.js';

export type Credential = { user: string; password: string } | { key: string };

export interface Remote {
  url: string;
  credential: Credential | null;
  privateAllowed: boolean;
  /** Where the host keys of ssh are remembered. */
  knownHosts: string;
}

export type Scheme = 'http' | 'https' | 'ssh' | 'file';

export interface RemoteAddress {
  /** The address as it was understood here: what git and others are given, who might read the text in another way. */
  url: string;
  scheme: Scheme;
  host: string;
  port: number;
  user: string;
}

const ports: Record<Scheme, number> = { http: 80, https: 443, ssh: 22, file: 0 };

/** What an address names; `url_refused` for anything that git must not be given. */
export function parseRemote(text: string): RemoteAddress {
  const refuse = (why: string) =>
    new CodedError('url_refused', { url: text.replace(/\/\/[^/@]*@/, '//…@').slice(0, 200), why });
  if (text.startsWith('-')) throw refuse('it begins with a dash.');
  // biome-ignore lint/suspicious/noControlCharactersInRegex: they are refused
  if (text.length > 2_000 || /[\u0000-\u0020\u007f]/.test(text))
    throw refuse('it has spaces or control characters, or is too long.');
  // The short form of ssh: user@host:path.
  const short = /^(?:([A-Za-z0-9._-]+)@)?([A-Za-z0-9.-]+):(?!:|\/\/)(.+)$/.exec(text);
  if (short && !/^[A-Za-z]:[\\/]/.test(text))
    return { url: text, scheme: 'ssh', host: hostOf(short[2] as string, refuse), port: 22, user: short[1] ?? 'git' };
  let url: URL;
  try {
    url = new URL(text);
  } catch {
    throw refuse('it is no address.');
  }
  const scheme = url.protocol.slice(0, -1) as Scheme;
  if (!Object.hasOwn(ports, scheme)) throw refuse(`git is not asked to use ${url.protocol}`);
  if (url.password || (url.username && scheme !== 'ssh'))
    throw refuse('it carries a name or password; give them apart from it.');
  if (scheme === 'file') {
    if (url.host) throw refuse('a file address has no host.');
    return { url: url.href, scheme, host: '', port: 0, user: '' };
  }
  if (url.username && !/^[A-Za-z0-9._-]+$/.test(url.username))
    throw refuse('its user name has other characters than letters, digits, dots and dashes.');
  if (url.username.startsWith('-')) throw refuse('its user name begins with a dash.');
  if (url.pathname.length < 2) throw refuse('it names no repository.');
  return {
    url: url.href,
    scheme,
    host: hostOf(url.hostname, refuse),
    port: Number(url.port) || ports[scheme],
    user: url.username || 'git',
  };
}

function hostOf(text: string, refuse: (why: string) => CodedError): string {
  const host = text.replace(/^\[|\]$/g, '').toLowerCase();
  if (isIP(host) || /^(?!-)[a-z0-9.-]{1,253}$/.test(host)) return host;
  throw refuse('its host has other characters than letters, digits, dots and dashes.');
}

const globalUnicast = ipaddr.IPv6.parseCIDR('2000::/3');

/**
 * Whether an address is anything but global unicast (RFC 6890): this machine, a private network, a range with a purpose of its own,
 * or an IPv4 address written inside an IPv6 one. Text that is no address counts as private.
 */
export function isPrivate(address: string): boolean {
  if (!ipaddr.isValid(address)) return true;
  const parsed = ipaddr.parse(address);
  if (parsed.range() !== 'unicast') return true;
  return parsed.kind() === 'ipv6' && !(parsed as ipaddr.IPv6).match(globalUnicast);
}

/** The address to connect to; `source_host` or `source_private` where there is none that may be. */
export async function checkedAddress({ host }: Pick<RemoteAddress, 'host'>, privateAllowed: boolean): Promise<string> {
  let found: string[];
  try {
    // Names below .localhost are this machine's own (RFC 6761), whatever a resolver says.
    found = isIP(host)
      ? [host]
      : host === 'localhost' || host.endsWith('.localhost')
        ? ['127.0.0.1']
        : (await lookup(host, { all: true })).map((one) => one.address);
  } catch {
    throw new CodedError('source_host', { host });
  }
  const [first] = found;
  if (!first) throw new CodedError('source_host', { host });
  const refused = privateAllowed ? undefined : found.find(isPrivate);
  if (refused) throw new CodedError('source_private', { host, address: refused });
  return first;
}

/** Runs git against a remote: `args` name it by the url that this gives. What goes wrong is said in words. */
export async function gitRemote(
  repository: string,
  remote: Remote,
  args: (url: string) => string[],
  options: GitOptions = {},
): Promise<{ out: Buffer; exit: number }> {
  const at = parseRemote(remote.url);
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-remote-'));
  try {
    const config: [string, string][] = [
      ['http.lowSpeedLimit', '1000'],
      ['http.lowSpeedTime', '30'],
    ];
    const env: NodeJS.ProcessEnv = { GIT_ALLOW_PROTOCOL: at.scheme };
    if (at.scheme === 'file') {
      // The git that reads the other side starts without our settings, and refuses a repository of another account. Root is trusted.
      const owner = statSync(fileURLToPath(at.url), { throwIfNoEntry: false })?.uid;
      env.GIT_CONFIG_GLOBAL = join(folder, 'config');
      writeFileSync(env.GIT_CONFIG_GLOBAL, owner === 0 ? '[safe]\n\tdirectory = *\n' : '');
    }
    const address = at.scheme === 'file' ? '' : await checkedAddress(at, remote.privateAllowed);
    const { credential } = remote;
    if (at.scheme === 'ssh') env.GIT_SSH_COMMAND = sshCommand(at, address, credential, remote.knownHosts, folder);
    else if (at.scheme !== 'file') {
      if (!isIP(at.host))
        config.push(['http.curloptResolve', `${at.host}:${at.port}:${isIP(address) === 6 ? `[${address}]` : address}`]);
      if (credential && 'password' in credential)
        config.push([
          'http.extraHeader',
          `Authorization: Basic ${Buffer.from(`${credential.user}:${credential.password}`).toString('base64')}`,
        ]);
    }
    return await git(repository, args(at.url), { timeout: 120_000, ...options, config, env });
  } catch (error) {
    throw error instanceof GitError ? inWords(error, remote.url, at) : error;
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** Every word of it is ours or was checked: git hands it to a shell. */
function sshCommand(
  at: RemoteAddress,
  address: string,
  credential: Credential | null,
  knownHosts: string,
  folder: string,
): string {
  const key = join(folder, 'key');
  if (credential && 'key' in credential) writeFileSync(key, `${credential.key.trim()}\n`, { mode: 0o600 });
  mkdirSync(join(knownHosts, '..'), { recursive: true });
  const options = {
    BatchMode: 'yes',
    ConnectTimeout: '15',
    // A peer that has vanished is noticed after a minute.
    ServerAliveInterval: '15',
    ServerAliveCountMax: '4',
    HostName: address,
    HostKeyAlias: at.host,
    // Remembered when it is seen for the first time; refused when it is another one later.
    StrictHostKeyChecking: 'accept-new',
    UserKnownHostsFile: knownHosts,
    IdentitiesOnly: 'yes',
    IdentityAgent: 'none',
    IdentityFile: credential && 'key' in credential ? key : 'none',
  };
  return ['ssh', '-F', '/dev/null', ...Object.entries(options).flatMap(([name, value]) => ['-o', `${name}=${value}`])]
    .map((one) => `'${one.replaceAll("'", "'\\''")}'`)
    .join(' ');
}

/** Which words of git and ssh mean what. */
const meanings: [RegExp, ErrorCode][] = [
  [/Host key verification failed|REMOTE HOST IDENTIFICATION HAS CHANGED/i, 'source_host_key'],
  [
    /Authentication failed|could not read (Username|Password)|Permission denied|returned error: 40[13]|Invalid username|Load key/i,
    'source_denied',
  ],
  [
    /returned error: 404|not found|does not appear to be a git repository|does not exist|no such file|Could not read from remote repository/i,
    'source_missing',
  ],
  [/returned error: 30\d|unable to update url base|redirect/i, 'source_redirect'],
  [/certificate|SSL|TLS/i, 'source_tls'],
  [/Could not resolve host|Name or service not known/i, 'source_host'],
  [
    /Connection refused|Failed to connect|timed out|took too long|No route to host|Connection reset|Couldn't connect|unreachable|Operation too slow|made no progress/i,
    'source_unreachable',
  ],
];

function inWords(error: GitError, url: string, at: RemoteAddress): CodedError {
  const code = meanings.find(([pattern]) => pattern.test(error.detail))?.[1] ?? 'fetch_failed';
  return new CodedError(code, { url, host: at.host, detail: error.detail.slice(0, 300) }, error);
}

export interface RemoteBranches {
  /** Branch → commit. */
  branches: Map<string, string>;
  /** What the remote calls its main branch; null when it says nothing. */
  main: string | null;
  /** Number → commit of its pull requests, where their refs were asked for. */
  pulls: Map<number, string>;
}

/** The branches of a remote, and the refs of its pull requests, without fetching anything. An empty repository has none. */
export async function listRemote(
  repository: string,
  remote: Remote,
  pullRefs: PullRefs | null = null,
): Promise<RemoteBranches> {
  const { out } = await gitRemote(
    repository,
    remote,
    (url) => [
      'ls-remote',
      '--symref',
      '--end-of-options',
      url,
      'HEAD',
      'refs/heads/*',
      ...(pullRefs ? [`${pullRefs.before}*${pullRefs.after}`] : []),
    ],
    { timeout: 45_000 },
  );
  const branches = new Map<string, string>();
  const pulls = new Map<number, string>();
  let main: string | null = null;
  for (const line of out.toString('utf8').split('\n')) {
    const symbolic = /^ref: refs\/heads\/(.+)\tHEAD$/.exec(line)?.[1];
    if (symbolic) main = symbolic;
    const found = /^([0-9a-f]{40,64})\trefs\/heads\/(.+)$/.exec(line);
    if (found && !line.includes('\ufffd')) branches.set(found[2] as string, found[1] as string);
    const [commit = '', ref = ''] = line.split('\t');
    const number = pullRefs && /^[0-9a-f]{40,64}$/.test(commit) ? pullOfRef(pullRefs, ref) : null;
    if (number !== null) pulls.set(number, commit);
  }
  return { branches, main: main !== null && branches.has(main) ? main : null, pulls };
}
