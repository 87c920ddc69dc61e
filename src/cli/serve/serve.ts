/** `serve`: the whole house on one machine, as processes: PostgreSQL, service, agent, edge. */
import { type ChildProcess, spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { cpus, homedir, totalmem } from 'node:os';
import { join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type Static, Type } from '@sinclair/typebox';
import { CodedError } from '../../core/errors/errors.js';
import { readKept, writeKept } from '../../wire/rooms/kept.js';
import { openLogs } from './logs.js';
import { unknownVariables, variablesFor } from './settings.js';
import { findLimits } from '../../agent/sandbox/host.js';
import { groupOf, makeGroup, preferOwn, reviewWeight } from '../../agent/sandbox/limits.js';
import { findProcessAccount, giveFolder, runAs } from './accounts.js';
import { boundsOf, type Cluster, openDatabase, prepareCluster, startCluster } from './postgres.js';
import { runRoom } from './room.js';
import { lockData } from './lock.js';
import { type Kept, keepRunning } from './supervise.js';

export interface Ports {
  console: number;
  edge: number;
  /** The edge over TLS. */
  tls: number;
  database: number;
  /** The cluster of the databases that are made for tasks. */
  resources: number;
  /** Those of the databases of environments. */
  standing: number;
  review: number;
  /** Those of untrusted reviews, and of the tasks of untrusted runs. */
  untrusted: number;
}

export const defaultPorts: Ports = {
  console: 7780,
  edge: 7781,
  database: 7782,
  resources: 7783,
  standing: 7784,
  review: 7785,
  tls: 7786,
  untrusted: 7787,
};

export interface HouseOptions {
  data: string;
  /** Ports that must be these; the others are moved when they are in use. */
  ports?: Partial<Ports>;
  /** Variables for the rooms, such as TSUNAGI_TIMING. */
  env?: NodeJS.ProcessEnv;
  /** The records count statements (pg_stat_statements). */
  counted?: boolean;
  /** Pause at most before a room that ended by itself is started again, in milliseconds; default 2,000. */
  longestPause?: number;
  say?: (text: string) => void;
}

export interface House {
  url: string;
  edgePort: number;
  ports: Ports;
  /** Token of the first owner. */
  token: string;
  /** Address of the records. */
  database: string;
  /** Fresh one-time sign-in for the console. */
  signIn(): Promise<string>;
  rooms: Record<'database' | ClusterName | 'service' | 'agent' | 'edge', Kept>;
  close(): Promise<void>;
}

/** Clusters of databases that are made for others: apart from the records, and from each other. */
const clusterNames = ['resources', 'standing', 'review', 'untrusted'] as const;
type ClusterName = (typeof clusterNames)[number];

/** What the agent mounts goes with it and its instances. */
const ownMounts = (): string[] => (process.getuid?.() === 0 ? ['unshare', '--mount', '--propagation', 'slave'] : []);

/** As one bundle: a room that was killed is there again sooner. */
const entry = fileURLToPath(new URL('../../../rooms/enter.js', import.meta.url));

/** Where things are kept when nobody says: below the home folder, or for root where the accounts for sandboxed work can reach it. */
export function defaultData(name: string): string {
  return process.getuid?.() === 0
    ? `/var/lib/tsunagi/${name}`
    : join(process.env.XDG_DATA_HOME || join(homedir(), '.local', 'share'), 'tsunagi', name);
}

/** A name for the data of one checkout. */
export const checkoutName = (path: string): string =>
  createHash('sha256').update(resolve(path)).digest('hex').slice(0, 8);

export async function openHouse(options: HouseOptions): Promise<House> {
  const { data, say = () => {}, longestPause } = options;
  mkdirSync(data, { recursive: true });
  chmodSync(data, 0o711);
  const unlock = lockData(data);
  const ports = await choosePorts(options.ports ?? {}, say);
  const kept: Kept[] = [];
  const logs = openLogs(data, ['database', ...clusterNames, 'service', 'agent', 'edge']);
  const close = async () => {
    for (const one of [...kept].reverse()) await one.end();
    for (const name of clusterNames)
      if (process.getuid?.() === 0) await groupOf(findLimits(), groupName(data, name)).remove();
    logs.stop();
    unlock();
  };
  try {
    const cluster = prepareCluster(join(data, 'records'), ports.database, { counted: options.counted ?? false });
    const clusters = Object.fromEntries(
      clusterNames.map((name) => [
        name,
        prepareCluster(join(data, name), ports[name], {
          like: cluster,
          bounds: boundsOf(name, totalmem(), cpus().length),
        }),
      ]),
    ) as Record<ClusterName, Cluster>;
    let database = '';
    const postgres = await keepRunning(
      {
        name: 'database',
        start: () => startCluster(cluster, logs.open('database')),
        ready: async () => void (database = await openDatabase(cluster, 'tsunagi')),
        signal: 'SIGINT',
      },
      say,
      longestPause,
    );
    kept.push(postgres);
    const servers = await allKept(
      kept,
      Object.fromEntries(
        clusterNames.map((name) => [
          name,
          keepRunning(
            { name, start: () => grouped(data, name, startCluster(clusters[name], logs.open(name))), signal: 'SIGINT' },
            say,
            longestPause,
          ),
        ]),
      ) as Record<ClusterName, Promise<Kept>>,
    );
    const { makeSignIn, makeTokens } = await import('../../service/start.js');
    await makeSignIn(database, 'owner');
    const tokens = await keptTokens(data, (names) => makeTokens(database, names));
    const url = `http://127.0.0.1:${ports.console}`;
    const room = (
      name: 'service' | 'agent' | 'edge',
      env: Record<string, string>,
      signal: NodeJS.Signals,
      ready: () => Promise<void>,
    ) => {
      const found = name === 'agent' ? null : findProcessAccount(name, entry);
      if (found && 'asRoot' in found) say(`${name} runs as root: ${found.asRoot}.`);
      const account = found && 'account' in found ? found.account : null;
      const folder = join(data, name);
      if (account) giveFolder(folder, account);
      const before = account ? runAs(account) : name === 'agent' ? ownMounts() : [];
      return keepRunning(
        {
          name,
          signal,
          ready,
          start: () => {
            const child = spawn(
              'setpriv',
              // The kernel forgets the signal when the account changes: it is set again behind that.
              [
                '--pdeathsig',
                'TERM',
                ...before,
                ...(account ? ['setpriv', '--pdeathsig', 'TERM'] : []),
                process.execPath,
                entry,
                name,
              ],
              {
                cwd: '/',
                stdio: ['ignore', logs.open(name), logs.open(name)],
                env: {
                  PATH: process.env.PATH ?? '',
                  HOME: account ? folder : (process.env.HOME ?? '/'),
                  LANG: 'C.UTF-8',
                  ...variablesFor(name, options.env ?? {}),
                  ...env,
                },
              },
            );
            // Its account may not do that itself.
            if (account && name === 'edge' && child.pid !== undefined)
              preferOwn(findLimits(), 'edge', options.env?.TSUNAGI_NAME ?? 'edge-1', child.pid);
            return child;
          },
        },
        say,
        longestPause,
      );
    };
    const service = await room(
      'service',
      {
        TSUNAGI_DATABASE: database,
        TSUNAGI_DATA: join(data, 'service'),
        TSUNAGI_PORT: String(ports.console),
        TSUNAGI_EDGE_PORT: String(ports.edge),
        TSUNAGI_EDGE_TLS_PORT: String(ports.tls),
        TSUNAGI_AUTHORITY: options.env?.TSUNAGI_AUTHORITY ?? 'local',
        TSUNAGI_CLUSTERS: JSON.stringify({
          standing: clusters.standing.url,
          review: clusters.review.url,
          untrusted: clusters.untrusted.url,
        }),
      },
      'SIGTERM',
      () => answers(`${url}/api/health`),
    );
    kept.push(service);
    const { edge, agent } = await allKept(kept, {
      edge: room(
        'edge',
        {
          TSUNAGI_URL: url,
          TSUNAGI_TOKEN: tokens.edge,
          TSUNAGI_DATA: join(data, 'edge'),
          TSUNAGI_PORT: String(ports.edge),
          TSUNAGI_TLS_PORT: String(ports.tls),
        },
        'SIGTERM',
        () => answers(`http://127.0.0.1:${ports.edge}/`),
      ),
      agent: room(
        'agent',
        {
          TSUNAGI_URL: url,
          TSUNAGI_TOKEN: tokens.agent,
          TSUNAGI_DATA: join(data, 'agent'),
          TSUNAGI_RESOURCES: await openDatabase(clusters.resources, 'postgres'),
          TSUNAGI_UNTRUSTED_RESOURCES: await openDatabase(clusters.untrusted, 'postgres'),
        },
        'SIGINT',
        () => agentRegistered(url, tokens.person),
      ),
    });
    return {
      url,
      edgePort: ports.edge,
      ports,
      token: tokens.person,
      database,
      signIn: async () => (await makeSignIn(database, 'owner')).code,
      rooms: { database: postgres, ...servers, service, agent, edge },
      close,
    };
  } catch (error) {
    await close();
    throw error instanceof CodedError
      ? error
      : new CodedError('unavailable', { detail: `${(error as Error).message}; its log is in ${logs.folder}.` }, error);
  }
}

/** Name of the control group of a cluster. */
const groupName = (data: string, name: ClusterName): string => `cluster-${checkoutName(data)}-${name}`;

/** Puts a cluster of databases into a control group of its own, where the machine has them. */
function grouped(data: string, name: ClusterName, server: ChildProcess): ChildProcess {
  const bounds = boundsOf(name, totalmem(), cpus().length);
  if (!bounds || server.pid === undefined || process.getuid?.() !== 0) return server;
  try {
    const limits = { memory: bounds.memory, cpu: bounds.cpu, processes: mostServerProcesses, weight: reviewWeight };
    // Its children are born in it.
    for (const entry of makeGroup(findLimits(), groupName(data, name), limits).entries)
      writeFileSync(entry, String(server.pid));
  } catch {
    // A tree that does not let us in: the bounds of each session hold all the same.
  }
  return server;
}

/** Processes of a cluster: one a session, and its own. */
const mostServerProcesses = 200;

/** What is started beside each other goes to `kept`, to be ended with the rest also where one of them did not start. */
async function allKept<Name extends string>(
  kept: Kept[],
  starts: Record<Name, Promise<Kept>>,
): Promise<Record<Name, Kept>> {
  const names = Object.keys(starts) as Name[];
  const ended = await Promise.allSettled(names.map((name) => starts[name]));
  const begun = {} as Record<Name, Kept>;
  for (const [at, name] of names.entries()) {
    const one = ended[at];
    if (one?.status !== 'fulfilled') continue;
    begun[name] = one.value;
    kept.push(one.value);
  }
  for (const one of ended) if (one.status === 'rejected') throw one.reason;
  return begun;
}

async function choosePorts(wanted: Partial<Ports>, say: (text: string) => void): Promise<Ports> {
  const ports = { ...defaultPorts };
  const taken = new Set<number>();
  for (const what of Object.keys(defaultPorts) as (keyof Ports)[]) {
    const fixed = wanted[what];
    if (fixed !== undefined) {
      if (!(await isFree(fixed))) throw new CodedError('port_taken', { port: fixed, what });
      ports[what] = fixed;
    } else {
      let port = defaultPorts[what];
      while (taken.has(port) || !(await isFree(port))) port += 10;
      if (port !== defaultPorts[what]) say(`The port ${defaultPorts[what]} is in use; ${what} takes ${port}.`);
      ports[what] = port;
    }
    taken.add(ports[what]);
  }
  return ports;
}

const isFree = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const server = createServer();
    server.once('error', () => resolve(false));
    server.listen({ host: '127.0.0.1', port, exclusive: true }, () => server.close(() => resolve(true)));
  });

const Tokens = Type.Object({ person: Type.String(), agent: Type.String(), edge: Type.String() });
type Tokens = Static<typeof Tokens>;

/** Tokens of this machine's own rooms, kept in a file of mode 0600. */
async function keptTokens(data: string, make: (names: Tokens) => Promise<Tokens>): Promise<Tokens> {
  const file = join(data, 'tokens.json');
  // Cut short, or of another shape, they are made anew: those before stay in the list of tokens until somebody removes them.
  const kept = readKept(file, Tokens);
  if (kept) return kept;
  const tokens = await make({ person: 'this machine', agent: 'agent-1', edge: 'edge-1' });
  writeKept(file, tokens);
  return tokens;
}

async function answers(url: string): Promise<void> {
  await until(async () => (await fetch(url)).status < 500, `${url} does not answer`);
}

async function agentRegistered(url: string, token: string): Promise<void> {
  await until(async () => {
    const { items } = (await (
      await fetch(`${url}/api/agents`, { headers: { authorization: `Bearer ${token}` } })
    ).json()) as { items: { alive: boolean }[] };
    return items.some((one) => one.alive);
  }, 'the agent does not register');
}

/** Milliseconds in which a process has to answer after its start: a machine may be busy with others. */
const startMs = 90_000;

async function until(test: () => Promise<boolean>, what: string): Promise<void> {
  const deadline = Date.now() + startMs;
  while (!(await test().catch(() => false))) {
    if (Date.now() > deadline) throw new Error(what);
    await new Promise((resolve) => setTimeout(resolve, 30));
  }
}

/** The command. */
export async function serve(options: { data?: string; port?: string[]; only?: string }): Promise<void> {
  if (options.only) return runRoom(options.only);
  const say = (text: string) => void process.stdout.write(`${text}\n`);
  for (const name of unknownVariables(process.env))
    say(`${name} is not a setting: it is ignored. docs/operating.md lists the settings.`);
  const house = await openHouse({
    data: options.data ? resolve(options.data) : defaultData('main'),
    ports: parsePorts(options.port ?? []),
    // Nothing but settings: what else stands in the environment of whoever starts it is no business of its processes.
    env: Object.fromEntries(Object.entries(process.env).filter(([name]) => name.startsWith('TSUNAGI_'))),
    say,
  });
  say(`The console: ${house.url}/sign-in#${await house.signIn()}`);
  say(`The command line: tsunagi sign-in ${house.url} --code ${await house.signIn()}`);
  say('Each is good once, for 30 minutes.');
  await untilSignal();
  await house.close();
}

export function parsePorts(texts: readonly string[]): Partial<Ports> {
  return Object.fromEntries(
    texts.map((text) => {
      const [what, number] = text.split('=');
      if (!what || !(what in defaultPorts) || !/^\d{2,5}$/.test(number ?? ''))
        throw new CodedError('usage', {
          detail: `\`${text}\` is not a port. Write one of these, with a number of your own: ${Object.entries(
            defaultPorts,
          )
            .map(([name, port]) => `${name}=${port}`)
            .join(', ')}.`,
          command: 'serve',
        });
      return [what, Number(number)];
    }),
  );
}

export const untilSignal = (): Promise<void> =>
  new Promise((done) => void process.once('SIGINT', () => done()).once('SIGTERM', () => done()));
