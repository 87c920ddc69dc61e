import { createHash } from 'node:crypto';
import { readdirSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import { pack } from 'tar-stream';
import type { RunDetail } from '../../src/wire/runs.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let registry: Server;
let tarball: Buffer;
beforeAll(async () => {
  tarball = await packageTar();
  // A package registry in small: one package, in the form that npm asks for.
  registry = createServer((request, response) => {
    const origin = `http://127.0.0.1:${(registry.address() as AddressInfo).port}`;
    if (request.url === '/price') {
      const dist = {
        tarball: `${origin}/price/-/price-1.0.0.tgz`,
        shasum: createHash('sha1').update(tarball).digest('hex'),
      };
      response.setHeader('content-type', 'application/json');
      response.end(
        JSON.stringify({
          name: 'price',
          'dist-tags': { latest: '1.0.0' },
          versions: { '1.0.0': { name: 'price', version: '1.0.0', dist } },
        }),
      );
    } else if (request.url?.endsWith('.tgz')) response.end(tarball);
    else response.writeHead(404).end();
  });
  await new Promise<void>((resolve) => void registry.listen(0, '127.0.0.1', resolve));
  const { port } = registry.address() as AddressInfo;
  world = await openWorld({
    env: {
      TSUNAGI_TASK_SETTINGS: JSON.stringify({
        npm_config_registry: `http://127.0.0.1:${port}/`,
        npm_config_update_notifier: 'false',
      }),
    },
  });
});
afterAll(async () => {
  await world?.close();
  registry?.close();
});

async function packageTar(): Promise<Buffer> {
  const archive = pack();
  archive.entry(
    { name: 'package/package.json' },
    JSON.stringify({ name: 'price', version: '1.0.0', main: 'index.js' }),
  );
  archive.entry({ name: 'package/index.js' }, "module.exports = () => 'high water';\n");
  archive.finalize();
  const parts: Buffer[] = [];
  for await (const part of archive) parts.push(part as Buffer);
  return gzipSync(Buffer.concat(parts));
}

async function project(name: string, definition: string, files: Record<string, string> = {}): Promise<Checkout> {
  const { checkout } = await world.hosted(name, {
    'a.txt': 'a',
    ...files,
    'tsunagi.yaml': `tsunagi: 1\ntasks:\n${definition}`,
  });
  await checkout.push();
  return checkout;
}
const ended = (name: string, number = 1) =>
  until(`run ${number} of ${name} has ended`, async () => {
    const run = await world.api().get<RunDetail>(`/api/projects/${name}/runs/${number}`);
    return run.endedAt ? run : null;
  });
async function logOf(run: RunDetail, task: string): Promise<string> {
  const attempt = run.taskList.find((one) => one.name === task)?.attempts.at(-1);
  const { items } = await world.api().get<{ items: { text: string }[] }>(`/api/attempts/${attempt?.id}/log`);
  return items.map((one) => one.text).join('');
}
const failures = (run: RunDetail) =>
  run.taskList
    .filter((one) => one.state !== 'passed' && one.state !== 'reused')
    .map((one) => [one.name, one.state, one.issue?.says]);

describe('tasks that are repeated and cut', () => {
  it('run side by side, each with its value, its shard and its own fingerprint, and what needs them sees all outputs', async () => {
    await project(
      'pieces',
      `  level: { each: { LEVEL: [v1, v2] }, run: 'mkdir -p out; echo "level $LEVEL" > "out/$LEVEL"', makes: [out/] }
  part: { shards: 3, run: 'echo "piece $TSUNAGI_SHARD of $TSUNAGI_SHARDS"' }
  all: { needs: [level, part], run: 'cat out/v1 out/v2' }
`,
    );
    const run = await ended('pieces');
    expect(failures(run)).toEqual([]);
    expect(run.taskList.map((one) => one.name)).toEqual([
      'level[v1]',
      'level[v2]',
      'part[1/3]',
      'part[2/3]',
      'part[3/3]',
      'all',
    ]);
    expect(new Set(run.taskList.map((one) => one.fingerprint)).size).toBe(6);
    expect(await logOf(run, 'all')).toBe('level v1\nlevel v2\n');
    expect(await logOf(run, 'part[2/3]')).toBe('piece 2 of 3\n');
  });

  it('take part by branch and by pull request', async () => {
    const checkout = await project('parts', "  all: { run: 'true' }\n  audit: { for: [main], run: 'true' }\n");
    expect((await ended('parts')).taskList.map((one) => one.name)).toEqual(['all', 'audit']);
    await checkout.commit({ 'a.txt': 'b' }, 'on a branch');
    await checkout.push('HEAD:refs/heads/topic');
    expect((await ended('parts', 2)).taskList.map((one) => one.name)).toEqual(['all']);
  });
});

describe('variables', () => {
  it('come from the run and the project, and a commit that is declared is part of the fingerprint', async () => {
    const checkout = await project(
      'from',
      "  tell: { reads: [a.txt], variables: { C: { from: run.commit }, B: { from: run.branch, append: '!' }, P: { from: project.name } }, run: 'echo $C $B $P' }\n",
    );
    const first = await ended('from');
    expect(await logOf(first, 'tell')).toBe(`${first.commit.id} main! from\n`);
    await checkout.commitAndPush({ 'b.txt': 'not read' }, 'other');
    const second = await ended('from', 2);
    expect(second.taskList[0]?.state).toBe('passed');
    expect(await logOf(second, 'tell')).toContain(second.commit.id);
  });
});

describe('a cache', () => {
  it('may lie in what another task has made, and is no part of it', async () => {
    await project(
      'own',
      `  deps: { run: 'mkdir -p modules/x; echo x > modules/x/index', makes: [modules/] }
  use: { reuse: false, needs: [deps], cache: [modules/.own/], run: 'cat modules/x/index; ls modules/.own; date > modules/.own/kept' }
`,
    );
    expect(await logOf(await ended('own'), 'use')).toBe('x\n');
    await world.api().post('/api/projects/own/runs', { ref: 'main' });
    expect(await logOf(await ended('own', 2), 'use')).toBe('x\nkept\n');
  });

  it('is kept from attempt to attempt, of HOME and of the project, and is no part of what is made', async () => {
    await project(
      'kept',
      "  count: { reuse: false, cache: [~/.count/, build/], run: 'echo x >> ~/.count/n; echo y >> build/n; wc -l < ~/.count/n; wc -l < build/n; mkdir out; cp build/n out/', makes: [out/] }\n",
    );
    expect(await logOf(await ended('kept'), 'count')).toBe('1\n1\n');
    await world.api().post('/api/projects/kept/runs', { ref: 'main' });
    expect(await logOf(await ended('kept', 2), 'count')).toBe('2\n2\n');
  });

  it('is never shared by two attempts at once', async () => {
    await project(
      'apart',
      "  two: { shards: 2, cache: [~/.lock/], run: 'test ! -e ~/.lock/held; touch ~/.lock/held; sleep 0.8; rm ~/.lock/held' }\n",
    );
    expect(failures(await ended('apart'))).toEqual([]);
  });
});

describe('a database of a task', () => {
  const script = `const net = require('node:net');
const { hostname, port, username, password, pathname } = new URL(process.env.DATABASE_URL);
console.log([hostname, pathname.slice(1) === username, process.env.DB_HOST, process.env.DB_PORT === port, password.length > 20].join(' '));
const ready = net.connect({ host: hostname, port: Number(port) }, () => { console.log('reached'); process.exit(0); });
ready.on('error', (error) => { console.log(error.code); process.exit(1); });
`;
  const definition = (run: string) =>
    `  ask: { reads: [ask.cjs], resources: { db: { kind: postgres } }, variables: { DATABASE_URL: { from: db.url }, DB_HOST: { from: db.host }, DB_PORT: { from: db.port } }, run: [${run}] }\n`;
  const databases = async () => {
    const { readFileSync } = await import('node:fs');
    const password = readFileSync(join(world.folder, 'house/resources/password'), 'utf8');
    const client = new pg.Client({
      host: '127.0.0.1',
      port: world.house.ports.resources,
      user: 'tsunagi',
      password,
      database: 'postgres',
    });
    await client.connect();
    try {
      return (
        await client.query<{ name: string }>(
          "select datname as name from pg_database where datname like 'a\\_%' union select rolname from pg_roles where rolname like 'a\\_%'",
        )
      ).rows.map((row) => row.name);
    } finally {
      await client.end();
    }
  };

  it('is ready when the task starts, is reached under its name, and is gone after it', async () => {
    await project(
      'asks',
      definition(
        'node ask.cjs, \'test "$(psql -At "$DATABASE_URL" -c "create table t (n int); insert into t values (7); select n from t" | tail -n 1)" = 7\'',
      ),
      { 'ask.cjs': script },
    );
    const run = await ended('asks');
    expect(await logOf(run, 'ask')).toMatch(/^db true db true true\nreached\n/);
    expect(failures(run)).toEqual([]);
    await until('it is gone', async () => (await databases()).length === 0, 30_000);
  });

  it('is gone too when the task fails, is stopped, or its agent is killed', async () => {
    await project('falls', definition("'exit 9'"), { 'ask.cjs': '' });
    expect((await ended('falls')).state).toBe('failed');
    await until('it is gone', async () => (await databases()).length === 0);
    await project('hangs', definition("'sleep 30'"), { 'ask.cjs': 'x' });
    await until('it is there', async () => (await databases()).length > 0);
    await world.api().post('/api/projects/hangs/runs/1/stop');
    expect((await ended('hangs')).state).toBe('stopped');
    await until('it is gone', async () => (await databases()).length === 0);
    await world.api().post('/api/projects/hangs/runs', { ref: 'main' });
    const made = await until('another is there', async () => {
      const names = await databases();
      return names.length ? names : null;
    });
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    await until('the first is gone', async () => !(await databases()).some((one) => made.includes(one)));
    await world.api().post('/api/projects/hangs/runs/2/stop');
    await ended('hangs', 2);
  });

  it('cannot be reached with another login, and nothing else of this machine can be reached', async () => {
    const { port } = new URL(world.url);
    await project(
      'closed',
      definition(
        `'! psql -At "\${DATABASE_URL%/*}/postgres" -c "select 1"', '! timeout 3 bash -c "</dev/tcp/127.0.0.1/${port}"', '! timeout 3 bash -c "</dev/tcp/127.0.0.1/${world.house.ports.database}"'`,
      ),
      { 'ask.cjs': '' },
    );
    expect(failures(await ended('closed'))).toEqual([]);
  });
});

describe('the network', () => {
  it('leads to the operator’s package registry: a real npm ci with a dependency', async () => {
    const { port } = registry.address() as AddressInfo;
    const lock = {
      name: 'app',
      lockfileVersion: 3,
      requires: true,
      packages: {
        '': { name: 'app', dependencies: { price: '1.0.0' } },
        'node_modules/price': {
          version: '1.0.0',
          resolved: `http://127.0.0.1:${port}/price/-/price-1.0.0.tgz`,
          integrity: `sha512-${createHash('sha512').update(tarball).digest('base64')}`,
        },
      },
    };
    await project(
      'installs',
      '  deps: { reads: [package.json, package-lock.json], network: true, timeout: 30s, cache: [~/.npm/], run: npm ci --no-audit --no-fund, makes: [node_modules/] }\n  unit: { needs: [deps], reads: [test.cjs], run: node test.cjs }\n',
      {
        'package.json': JSON.stringify({ name: 'app', dependencies: { price: '1.0.0' } }),
        'package-lock.json': JSON.stringify(lock),
        'test.cjs': "console.log(require('price')());\n",
      },
    );
    const run = await ended('installs');
    expect(failures(run)).toEqual([]);
    expect(await logOf(run, 'unit')).toBe('high water\n');
    expect(readdirSync(join(world.folder, 'house/agent/caches')).length).toBeGreaterThan(0);
  });

  it('is closed without `network: true`, for the registry too', async () => {
    const { port } = registry.address() as AddressInfo;
    await project('offline', `  try: { run: '! timeout 3 bash -c "</dev/tcp/127.0.0.1/${port}"' }\n`);
    expect(failures(await ended('offline'))).toEqual([]);
  });
});
