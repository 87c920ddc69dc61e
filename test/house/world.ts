/** A whole house for a test: real processes, real PostgreSQL, real git, real sandboxes; driven through its public interfaces. */
import { execFile, execFileSync, spawn } from 'node:child_process';
import {
  chmodSync,
  chownSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  writeFileSync,
} from 'node:fs';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { promisify } from 'node:util';
import pg from 'pg';
import type { AddedProject } from '../../src/wire/projects.js';
import type { AddedToken } from '../../src/wire/people.js';
import type { Deployment, EnvironmentDetail } from '../../src/wire/environments/environments.js';
import type { Event } from '../../src/wire/overview.js';
import type { LogChunk } from '../../src/wire/logs.js';
import type { PageOf, Problem } from '../../src/wire/parts.js';
import type { ReleaseDetail } from '../../src/wire/releases.js';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import type { Timing } from '../../src/engine/context.js';
import { copyMade } from './made.js';

export const root = process.cwd();
const run = promisify(execFile);

/** Built modules: tests drive what is shipped. */
const built = async <T>(path: string): Promise<T> => (await import(join(root, 'dist', path))) as T;
export const serveModule = () => built<typeof import('../../src/cli/serve/serve.js')>('rooms/serve.js');
export const codehostModule = () =>
  built<typeof import('../../demo/codehost/codehost.js')>('demo/codehost/codehost.js');

export interface WorldOptions {
  timing?: Partial<Timing>;
  env?: Record<string, string>;
}

export type World = Awaited<ReturnType<typeof openWorld>>;

/** Below the ports of instances and of outgoing connections; every worker of Jest has its own. */
let portBase = 12_000 + Number(process.env.JEST_WORKER_ID ?? 1) * 400 + (process.pid % 40) * 8;

/** Milliseconds in which a house opens on a machine that does nothing else. */
const usualOpening = 6_000;

/** Lets the service note in the folder which of its crashes have happened, and kill processes of other accounts for that. */
function prepareCrashes(folder: string) {
  const own = /^tsunagi-service:[^:]*:(\d+):(\d+):/m.exec(readFileSync('/etc/passwd', 'utf8'));
  if (own && process.getuid?.() === 0) chownSync(folder, Number(own[1]), Number(own[2]));
  const pipe = join(folder, 'crash-at.kill');
  execFileSync('mkfifo', ['-m', '0622', pipe]);
  const read = 'exec 3<>"$1"; while read -r pid <&3; do kill -KILL "$pid"; done';
  const killer = spawn('setpriv', ['--pdeathsig', 'KILL', 'bash', '-c', read, 'bash', pipe], { stdio: 'ignore' });
  killer.unref();
  return killer;
}

/** The last lines of a log. */
const end = (path: string): string => readFileSync(path, 'utf8').trimEnd().split('\n').slice(-15).join('\n');

/** What git says when the service was killed at that moment. */
const cut = /Recv failure|Failed to connect|Couldn't connect|Empty reply|Connection (reset|refused)/;

export async function openWorld({ timing = {}, env = {} }: WorldOptions = {}) {
  const { openHouse } = await serveModule();
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-test-'));
  chmodSync(folder, 0o711);
  const killer = prepareCrashes(folder);
  portBase += 8;
  const options = {
    data: join(folder, 'house'),
    // Tests kill more often than life does.
    longestPause: 200,
    ports: {
      console: portBase,
      edge: portBase + 1,
      database: portBase + 2,
      resources: portBase + 3,
      standing: portBase + 4,
      review: portBase + 5,
      tls: portBase + 6,
      untrusted: portBase + 7,
    },
    env: {
      TSUNAGI_TIMING: JSON.stringify({ lease: 6_000, sweep: 1_000, ready: 20_000, ...timing }),
      TSUNAGI_LOG_LEVEL: 'warn',
      // Each picture is a browser; tests of pictures say which.
      TSUNAGI_CHROMIUM: 'none',
      // A transition that locks rows in another order than all others fails.
      TSUNAGI_STRICT_LOCKS: '1',
      TSUNAGI_CRASH_FILE: join(folder, 'crash-at'),
      ...env,
    },
  };
  await copyMade(options.data, options.ports.database);
  const begun = Date.now();
  const logs = join(options.data, 'logs');
  let house = await openHouse(options).catch((error: Error) => {
    const ends = existsSync(logs) ? readdirSync(logs).map((name) => `${name}:\n${end(join(logs, name))}`) : [];
    throw new Error([error.message, ...ends].join('\n'));
  });
  const pace = Math.min(5, Math.max(1, (Date.now() - begun) / usualOpening));
  const world = {
    folder,
    get house() {
      return house;
    },
    url: house.url,
    /** How many times slower than usual this machine is: for work of a test that has to last until something else is done. */
    pace,
    /** Ends the house and starts it again on the same data. */
    async restart(change: Record<string, string> = {}) {
      await house.close();
      house = await openHouse({ ...options, env: { ...options.env, ...change } });
    },
    async close() {
      await house.close();
      killer.kill('SIGKILL');
      // Node.js says so where a list of listeners grows.
      const grown = readdirSync(join(folder, 'house/logs')).flatMap((name) =>
        readFileSync(join(folder, 'house/logs', name), 'utf8')
          .split('\n')
          .filter((line) => line.includes('MaxListenersExceededWarning'))
          .map((line) => `${name}: ${line}`),
      );
      rmSync(folder, { recursive: true, force: true });
      if (grown.length > 0) throw new Error(grown.join('\n'));
    },
    api: (token = house.token) => api(house.url, token),
    /** The command line, as a user calls it. */
    cli: (...args: string[]) => cli(args, { TSUNAGI_URL: house.url, TSUNAGI_TOKEN: house.token }),
    visit: (
      host: string,
      path = '/',
      options: { method?: string; headers?: Record<string, string>; body?: string } = {},
    ) => visit(house.edgePort, host, path, options),
    serviceLog: () => readFileSync(join(options.data, 'logs', 'service.log'), 'utf8'),
    async hosted(name: string, files: Record<string, string>) {
      const own = api(house.url, house.token);
      const project = await own.post<AddedProject>('/api/projects', { name, source: 'hosted' });
      const token = await own.post<AddedToken>('/api/tokens', { name: `push ${name}`, role: 'developer' });
      const checkout = new Checkout(join(folder, name), project.endpoint.replace('//', `//x:${token.token}@`));
      await checkout.start();
      const commit = await checkout.commit(files, 'First commit');
      return { checkout, first: commit, project };
    },
    waitRun: (project: string, commit: string, branch?: string) =>
      until(`the run of ${commit.slice(0, 7)} in ${project}`, async () => {
        const { items } = await world.api().get<PageOf<Run>>(`/api/runs?project=${project}&limit=100`);
        const found = items.find(
          (one) => one.commit.id === commit && one.endedAt !== null && (branch === undefined || one.branch === branch),
        );
        return found ? world.api().get<RunDetail>(`/api/projects/${project}/runs/${found.number}`) : null;
      }),
    environment: (project: string, name: string) =>
      world.api().get<EnvironmentDetail>(`/api/projects/${project}/environments/${name}`),
    waitLive: (project: string, name: string, commit: string) =>
      until(`${project}/${name} live with ${commit.slice(0, 7)}`, async () => {
        const one = await world.environment(project, name).catch(() => null);
        if (one?.live?.commit.id === commit && one.moving === null) return one;
        // What stands there instead is what one wants to know when this was in vain.
        const last = one?.history[0];
        throw new Error(
          `live: r${one?.live?.release}, moving: ${one?.moving?.state}, last: d${last?.number} r${last?.release} ${last?.state} ${last?.failure?.says ?? ''}`,
        );
      }),
    waitDeployment: (project: string, number: number) =>
      until(`d${number} of ${project}`, async () => {
        const one = await world.api().get<Deployment>(`/api/projects/${project}/deployments/${number}`);
        return one.state === 'live' || one.state === 'failed' || one.state === 'replaced' || one.state === 'reverted'
          ? one
          : null;
      }),
    act: (project: string, name: string, body: { kind: string; release?: number }) =>
      world.api().post<Deployment>(`/api/projects/${project}/environments/${name}/deployments`, body),
    async log(attempt: string): Promise<string> {
      let text = '';
      for (let from: string | null = '0'; from !== null; ) {
        const page: PageOf<LogChunk> = await world.api().get(`/api/attempts/${attempt}/log?from=${from}`);
        text += page.items.map((chunk) => chunk.text).join('');
        from = page.next;
      }
      return text;
    },
    events: async (query: string) => (await world.api().get<PageOf<Event>>(`/api/events?limit=200&${query}`)).items,
    release: (project: string, number: number) =>
      world.api().get<ReleaseDetail>(`/api/projects/${project}/releases/${number}`),
  };
  return world;
}

export class Checkout {
  constructor(
    readonly folder: string,
    readonly remote: string,
  ) {}
  async git(...args: string[]): Promise<string> {
    const env = {
      PATH: process.env.PATH,
      HOME: '/nonexistent',
      GIT_CONFIG_NOSYSTEM: '1',
      GIT_TERMINAL_PROMPT: '0',
      GIT_AUTHOR_NAME: 'Mika',
      GIT_AUTHOR_EMAIL: 'm@kohama.example',
      GIT_COMMITTER_NAME: 'Mika',
      GIT_COMMITTER_EMAIL: 'm@kohama.example',
    };
    return (await run('git', ['-C', this.folder, ...args], { env, encoding: 'utf8' })).stdout.trim();
  }
  async start(): Promise<void> {
    mkdirSync(this.folder, { recursive: true });
    await this.git('init', '-q', '--initial-branch=main');
    await this.git('remote', 'add', 'origin', this.remote);
  }
  async commit(files: Record<string, string | Buffer | null>, title: string): Promise<string> {
    for (const [path, text] of Object.entries(files)) {
      const place = join(this.folder, path);
      if (text === null) rmSync(place, { recursive: true });
      else {
        mkdirSync(dirname(place), { recursive: true });
        writeFileSync(place, text);
      }
    }
    await this.git('add', '-A');
    await this.git('commit', '-q', '--allow-empty', '-m', title);
    return this.git('rev-parse', 'HEAD');
  }
  async push(ref = 'main'): Promise<void> {
    // Who pushes while the service is down pushes again.
    for (let tries = 0; ; tries++)
      try {
        await this.git('push', '-q', 'origin', ref);
        return;
      } catch (error) {
        if (tries === 60 || !cut.test((error as Error).message)) throw error;
        await new Promise((resolve) => setTimeout(resolve, 250));
      }
  }
  async commitAndPush(
    files: Record<string, string | Buffer | null>,
    title = 'A change',
    branch = 'main',
  ): Promise<string> {
    const id = await this.commit(files, title);
    await this.push(`HEAD:refs/heads/${branch}`);
    return id;
  }
}

export interface Api {
  get<T>(path: string): Promise<T>;
  post<T>(path: string, body?: unknown, key?: string): Promise<T>;
  /** Any call: status and body, without throwing. */
  raw(
    method: string,
    path: string,
    options?: { body?: unknown; headers?: Record<string, string> },
  ): Promise<{ status: number; body: Problem & Record<string, unknown>; headers: Headers }>;
}

export function api(url: string, token: string | null): Api {
  const raw: Api['raw'] = async (method, path, { body, headers = {} } = {}) => {
    const answer = await fetch(url + path, {
      method,
      headers: {
        ...(token ? { authorization: `Bearer ${token}` } : {}),
        ...(body === undefined ? {} : { 'content-type': 'application/json' }),
        ...headers,
      },
      ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
    });
    const text = await answer.text();
    let parsed: unknown = null;
    try {
      parsed = text ? JSON.parse(text) : null;
    } catch {
      parsed = { text };
    }
    return { status: answer.status, body: parsed as Problem & Record<string, unknown>, headers: answer.headers };
  };
  const must = async <T>(method: string, path: string, body?: unknown, key?: string): Promise<T> => {
    const answer = await raw(method, path, {
      ...(method === 'GET' ? {} : { body: body ?? {}, headers: { 'idempotency-key': key ?? crypto.randomUUID() } }),
    });
    if (answer.status >= 400)
      throw Object.assign(new Error(`${method} ${path}: ${answer.status} ${JSON.stringify(answer.body)}`), {
        code: answer.body?.code,
      });
    return answer.body as T;
  };
  return { raw, get: (path) => must('GET', path), post: (path, body, key) => must('POST', path, body, key) };
}

/** A connection to the records of a running installation. */
export async function connectRecords(world: World): Promise<pg.Client> {
  const client = new pg.Client({
    host: '127.0.0.1',
    port: world.house.ports.database,
    user: 'tsunagi',
    password: readFileSync(join(world.folder, 'house/records/password'), 'utf8'),
    database: 'tsunagi',
  });
  await client.connect();
  return client;
}

/** What a statement finds in the records of a running installation. */
export async function recordsOf<T>(world: World, sql: string): Promise<T[]> {
  const client = await connectRecords(world);
  try {
    return (await client.query(sql)).rows as T[];
  } finally {
    await client.end();
  }
}

/**
 * A file with the process id of a room that may be killed and come up again, kept up to date until `stop`. Whole whenever it is read:
 * whoever finds it empty takes the room for one that is down.
 */
export function noteRoom(world: World, room: 'service' | 'agent' | 'edge') {
  const path = join(world.folder, `${room}.pid`);
  const note = () => {
    writeFileSync(`${path}.new`, String(world.house.rooms[room].pid() ?? 0));
    renameSync(`${path}.new`, path);
  };
  note();
  const noting = setInterval(note, 20);
  return { path, note, stop: () => clearInterval(noting) };
}

/** Waits for a condition with a deadline, and says what was missing. */
export async function until<T>(
  what: string,
  look: () => Promise<T | null | undefined | false>,
  ms = 100_000,
): Promise<T> {
  const begun = Date.now();
  const deadline = begun + ms;
  let last: unknown = null;
  while (Date.now() < deadline) {
    try {
      const found = await look();
      if (found) return found;
    } catch (error) {
      last = error;
    }
    // Who asks all the time takes the machine from what is waited for.
    await new Promise((resolve) => setTimeout(resolve, Math.min(Math.max(40, (Date.now() - begun) / 8), 300)));
  }
  throw new Error(`waited ${ms / 1000} s in vain: ${what}${last ? ` (${last})` : ''}`);
}

export function cli(
  args: string[],
  env: Record<string, string> = {},
  cwd = root,
): Promise<{ out: string; err: string; status: number | null }> {
  return new Promise((resolve, reject) => {
    const child = spawn(join(root, 'tsunagi'), args, {
      cwd,
      env: { PATH: process.env.PATH ?? '', HOME: '/nonexistent', ...env },
      stdio: ['ignore', 'pipe', 'pipe'],
    });
    let out = '';
    let err = '';
    child.stdout.on('data', (chunk: Buffer) => (out += chunk.toString()));
    child.stderr.on('data', (chunk: Buffer) => (err += chunk.toString()));
    child.on('error', reject);
    child.on('close', (status) => resolve({ out, err, status }));
  });
}

/** A request through the edge; Node's resolver does not know names below .localhost. */
export function visit(
  port: number,
  host: string,
  path: string,
  options: { method?: string; headers?: Record<string, string>; body?: string } = {},
): Promise<{ status: number; text: string }> {
  return new Promise((resolve, reject) => {
    const call = request(
      {
        host: '127.0.0.1',
        port,
        path,
        method: options.method ?? 'GET',
        headers: { ...options.headers, host: `${host}:${port}` },
        agent: false,
      },
      (answer) => {
        const parts: Buffer[] = [];
        answer.on('data', (chunk: Buffer) => parts.push(chunk));
        answer.on('end', () =>
          resolve({ status: answer.statusCode ?? 0, text: Buffer.concat(parts).toString('utf8') }),
        );
        answer.on('error', reject);
      },
    );
    call.on('error', reject);
    call.end(options.body);
  });
}

/** A small app: a server that tells its release, a worker that writes lines, a site. */
export const app = (text: string): Record<string, string> => ({
  'server.js': `import { createServer } from 'node:http';\ncreateServer((request, response) => response.end(JSON.stringify({ text: ${JSON.stringify(text)}, release: process.env.RELEASE, path: request.url }))).listen(process.env.PORT);\nprocess.on('SIGTERM', () => process.exit(0));\n`,
  'worker.js': `setInterval(() => console.log('tick'), 200);\nconsole.log('worker of', process.env.TSUNAGI_RELEASE);\n`,
  'package.json': '{ "type": "module" }\n',
  'web/index.html': `<h1>${text}</h1>\n`,
  // The edge may be killed right here: what can't be reached is asked again.
  // The timer keeps Node there while a connection that was cut is given up.
  'check.js': `const awake = setInterval(() => {}, 1000);\nconst ask = async (tries = 60) => {\n  try {\n    return await (await fetch(process.env.TSUNAGI_ENVIRONMENT_URL + '/api', { signal: AbortSignal.timeout(2000) })).json();\n  } catch (error) {\n    if (tries === 0) throw error;\n    await new Promise((resolve) => setTimeout(resolve, 250));\n    return ask(tries - 1);\n  }\n};\nconst answer = await ask();\nclearInterval(awake);\nif (answer.release !== process.env.TSUNAGI_RELEASE) throw new Error('wrong release ' + answer.release);\nconsole.log('verified', answer.release);\n`,
});

export const appDefinition = `tsunagi: 1
tasks:
  unit: { reads: [server.js], run: [node --check server.js, echo checked] }
release:
  needs: [unit]
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /api, ready: /api, instances: 2 }
    bell: { kind: worker, files: [worker.js, package.json], start: node worker.js }
  variables: { RELEASE: { from: release.number } }
environments:
  review: { for: pull requests }
  staging: { branch: main, verify: { reads: [check.js, package.json], run: node check.js } }
  production: { after: staging }
`;

/** The same with a prepare, which is a step of its own. */
export const preparedDefinition = appDefinition.replace(
  '  needs: [unit]\n',
  "  needs: [unit]\n  prepare: { part: api, run: 'true', again: safe }\n",
);

/** What must hold after any kill: nothing is stuck, lost or done twice with effect. */
export async function checkHouse(world: World, commit: string, text: string): Promise<void> {
  const run = await world.waitRun('shop', commit, 'main');
  expect(run.state).toBe('passed');
  const live = await world.waitLive('shop', 'staging', commit);
  expect(live.live?.release).toBe(run.release);
  await until('good health', async () => (await world.environment('shop', 'staging')).health === 'good');
  for (let n = 0; n < 4; n++) {
    // Where the edge itself was killed a moment ago, nobody answers until it is back.
    const answer = await until('an answer', () => world.visit('shop-staging.localhost', '/api'));
    expect(JSON.parse(answer.text)).toMatchObject({ text, release: `r${run.release}` });
  }
  const { items } = await world
    .api()
    .get<{ items: { commit: { id: string }; number: number }[] }>('/api/runs?project=shop&limit=200');
  expect(items.filter((one) => one.commit.id === commit)).toHaveLength(1);
  const releases = (await world.api().get<{ items: { run: number }[] }>('/api/projects/shop/releases?limit=200')).items;
  expect(releases.filter((one) => one.run === run.number)).toHaveLength(1);
  const attempts = run.taskList[0]?.attempts ?? [];
  expect(attempts.filter((one) => one.state === 'passed')).toHaveLength(1);
  expect(live.history.filter((one) => one.release === run.release)).toHaveLength(1);
  const workers = await until('one worker', async () => {
    const list = (await world.environment('shop', 'staging')).instanceList.filter(
      (one) => one.kind === 'worker' && (one.state === 'ready' || one.state === 'starting'),
    );
    return list.length === 1 && list;
  });
  expect(workers[0]?.wanted).toBe(true);
}

/** Every event so far, in the order of the record. */
export async function allEvents(world: World): Promise<Event[]> {
  const all: Event[] = [];
  for (let after = '0'; ; after = all.at(-1)?.sequence as string) {
    const { items } = await world.api().get<PageOf<Event>>(`/api/events?after=${after}&limit=200`);
    if (items.length === 0) return all;
    all.push(...items);
  }
}

/** Runs of main that do all anew, beside whatever else goes on: more than an agent begins at once, so that some of it waits. */
export async function askOften(world: World, project: string): Promise<void> {
  for (let run = 0; run < 4; run++)
    await until('the service takes a run', () =>
      world.api().post(`/api/projects/${project}/runs`, { ref: 'main', reuse: false }),
    );
}
