/** Reviews of strangers' pull requests: apart from all others. The stranger's program tries what it can from inside. */
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { networkInterfaces } from 'node:os';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { ResourceDetail } from '../../src/wire/environments/resources.js';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import { notified, startCodeHost } from './codehost.js';
import { administer } from './passengers.js';
import { type Checkout, openWorld, until, type World } from './world.js';

/** Runs what it is asked to, and says what came of it: nobody is kept from writing that. */
const server = `import { createServer } from 'node:http';
import { execFile } from 'node:child_process';
createServer((request, response) => {
  if (request.url === '/ready') return response.end('ready');
  if (request.url === '/cookies') { response.setHeader('set-cookie', ['mine=1; Domain=untrusted.localhost; Path=/', 'wide=1;domain=localhost', 'own=1; Path=/; HttpOnly']); return response.end('set'); }
  let command = '';
  request.on('data', (part) => (command += part)).on('end', () =>
    execFile('bash', ['-c', command], { timeout: 8000 }, (error, out, err) => response.end(JSON.stringify({ status: error ? (error.code ?? 1) : 0, out, err }))));
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
tasks:
  # Of pull requests alone: the push of their branches has made no result that counts for them.
  ask: { for: [pull requests], reads: [text.txt], resources: { db: { kind: postgres } }, variables: { DB_PORT: { from: db.port } }, run: 'echo "port $DB_PORT"' }
release:
  parts:
    api: { kind: server, files: [server.js, package.json, text.txt], start: node server.js, ready: /ready, instances: 3, memory: 1G, cpu: 2 }
  resources: { timetable: { kind: postgres } }
  prepare: { part: api, run: 'psql "$DATABASE_URL" -qc "create table if not exists marks (text text)"' }
  variables:
    DATABASE_URL: { from: timetable.url }
    SMS_KEY: { secret: true, about: key of the gateway, untrusted: stand-in }
    PIER: { default: Kohama South }
environments:
  review: { for: pull requests, data: { timetable: { copy: staging } } }
  staging: { branch: main, scrub: { part: api, run: "true" } }
`;

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
let outside: Server;
const commits: Record<string, string> = {};
const pulls: Record<string, number> = {};
const trustedHost = () => `pr-${pulls.winter}-sailings.review.localhost`;
const strangersHost = (name = 'offer') => `pr-${pulls[name]}-sailings.untrusted.localhost`;
const review = (name: string) => world.environment('sailings', `pr-${pulls[name]}`);
const inside = async (command: string, host = strangersHost()) =>
  JSON.parse((await world.visit(host, '/run', { method: 'POST', body: command })).text) as {
    status: number | string;
    out: string;
    err: string;
  };
async function branch(name: string, change: Record<string, string>): Promise<string> {
  await checkout.git('checkout', '-q', '-B', name, 'main');
  const commit = await checkout.commit({ 'text.txt': name, ...change }, name);
  await checkout.git('push', '-qf', 'origin', `HEAD:refs/heads/${name}`);
  commits[name] = commit;
  return commit;
}
const waiting = (name: string) =>
  until('its run waits for somebody', async () =>
    (await world.api().get<PageOf<Run>>('/api/runs?project=sailings&state=waiting')).items.find(
      (one) => one.pullRequest === pulls[name] && one.issue?.code === 'run_untrusted',
    ),
  );

beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  outside = createServer((_request, response) => response.end('the outside')).listen(0, '0.0.0.0');
  let first: string;
  ({ checkout, first } = await notified(world, codehost, 'sailings', {
    'server.js': server,
    'package.json': '{ "type": "module" }\n',
    'text.txt': 'main',
    'tsunagi.yaml': definition,
  }));
  await until('the definition counts', async () => (await world.events('type=definition.accepted')).length > 0);
  await world.api().post('/api/projects/sailings/variables', {
    environment: null,
    set: [{ name: 'SMS_KEY', value: 'the real key', secret: true }],
  });
  await world.waitLive('sailings', 'staging', first);
  await world.cli('environment', 'copies', 'sailings/staging', '--permit');
  await branch('winter', {});
  await branch('offer', {});
  pulls.winter = (await codehost.openPull('sailings', { title: 'Winter', branch: 'winter' })).number;
  pulls.offer = (await codehost.openPull('sailings', { title: 'Offer', branch: 'offer', trusted: false })).number;
  await world.waitLive('sailings', `pr-${pulls.winter}`, commits.winter as string);
});
afterAll(async () => {
  outside?.close();
  await codehost?.close();
  await world?.close();
});

describe('a stranger’s review', () => {
  it('is none before somebody has allowed a commit, and shows that commit alone', async () => {
    await waiting('offer');
    expect((await world.visit(strangersHost())).status).toBe(404);
    expect((await world.api().raw('GET', `/api/projects/sailings/environments/pr-${pulls.offer}`)).status).toBe(404);
    const allowed = await world.cli('run', 'allow', commits.offer as string, '--project', 'sailings');
    expect(allowed.status).toBe(0);
    const live = await world.waitLive('sailings', `pr-${pulls.offer}`, commits.offer as string);
    expect(live.url).toContain(strangersHost());
    expect([live.review?.outside, (await review('winter')).review?.outside]).toEqual([true, false]);
    // Its tasks have their databases on another server than trusted ones.
    const said = async (name: string) => {
      const { items } = await world.api().get<PageOf<Run>>('/api/runs?project=sailings');
      const number = items.find((one) => one.pullRequest === pulls[name])?.number;
      const { taskList } = await world.api().get<RunDetail>(`/api/projects/sailings/runs/${number}`);
      return world.log(taskList.find((one) => one.name === 'ask')?.attempts[0]?.id as string);
    };
    const { resources, untrusted } = world.house.ports;
    expect([await said('offer'), await said('winter')]).toEqual([`port ${untrusted}\n`, `port ${resources}\n`]);
    // What comes next waits again; what was looked at stays.
    const before = commits.offer as string;
    await branch('offer', { 'text.txt': 'offer again' });
    await waiting('offer');
    expect((await review('offer')).live?.commit.id).toBe(before);
  });

  it('has less of everything: one of each part, smaller, and said so', async () => {
    const { parts, instanceList, instances } = await review('offer');
    expect(parts[0]?.size).toMatchObject({ instances: 1, memory: 256 * 1024 ** 2, cpu: 0.5 });
    expect(instances).toMatchObject({ asked: 1, ready: 1 });
    expect(instanceList.filter((one) => one.state === 'ready')).toHaveLength(1);
    await world.api().raw('POST', `/api/projects/sailings/environments/pr-${pulls.offer}/scale`, {
      body: { part: 'api', instances: 5 },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect((await review('offer')).parts[0]?.size?.instances).toBe(1);
    expect((await review('winter')).parts[0]?.size?.instances).toBe(3);
  });

  it('has no secret, and nobody else’s data', async () => {
    expect((await inside('echo "$SMS_KEY $PIER"')).out.trim()).toBe('stand-in Kohama South');
    expect((await inside('echo "$SMS_KEY"', trustedHost())).out.trim()).toBe('the real key');
    const { origin, place } = await world
      .api()
      .get<ResourceDetail>(`/api/projects/sailings/environments/pr-${pulls.offer}/resources/timetable`);
    expect([place, origin?.of, origin?.why?.code]).toEqual(['untrusted', null, 'copy_untrusted']);
    expect((await inside('env; cat /proc/*/environ 2>/dev/null | tr "\\0" "\\n"')).out).not.toContain('the real key');
  });

  it('reaches nothing but its own database: no outside, no machine, no other database, no service', async () => {
    expect((await inside('psql "$DATABASE_URL" -Atc "select 1"')).out.trim()).toBe('1');
    const machine =
      Object.values(networkInterfaces())
        .flat()
        .find((one) => one?.family === 'IPv4' && !one.internal)?.address ?? '127.0.0.1';
    const port = (outside.address() as AddressInfo).port;
    const { ports } = world.house;
    const tries = [
      `http://${machine}:${port}/`,
      `http://127.0.0.1:${port}/`,
      `${world.url}/api/health`,
      `http://127.0.0.1:${world.house.edgePort}/`,
      'http://169.254.169.254/',
      'http://[::1]:80/',
    ];
    for (const url of tries) {
      const tried = await inside(`curl -s -m 2 '${url}'`);
      expect([url, tried.status === 0, tried.out]).toEqual([url, false, '']);
    }
    for (const other of [ports.standing, ports.review, ports.resources, ports.database])
      expect((await inside(`timeout 2 bash -c 'echo > /dev/tcp/127.0.0.1/${other}'`)).status).not.toBe(0);
    expect((await inside('getent hosts kohama.example')).status).not.toBe(0);
    const address = new URL((await inside('echo "$DATABASE_URL"')).out.trim());
    // On the server that it reaches it enters its own alone.
    const names = await administer<{ name: string }>(
      world,
      'untrusted',
      'select datname as name from pg_database where datallowconn',
    );
    for (const { name } of names.filter((one) => `/${one.name}` !== address.pathname)) {
      const tried = await inside(`psql "$(echo "$DATABASE_URL" | sed 's#/[^/]*$#/${name}#')" -Atc 'select 1'`);
      expect([name, tried.status === 0]).toEqual([name, false]);
    }
    // No way leads anywhere; one that is trusted has some.
    const ways = async (host: string) => Number((await inside('tail -n +2 /proc/net/route | wc -l', host)).out.trim());
    expect([await ways(strangersHost()), (await ways(trustedHost())) > 0]).toEqual([0, true]);
  });

  it('lets its developers in without more than that', async () => {
    const shell = await world.cli(
      'exec',
      `sailings/pr-${pulls.offer}`,
      '--',
      'bash',
      '-c',
      `echo "$SMS_KEY"; curl -s -m 2 ${world.url}/api/health || echo none`,
    );
    expect(shell.out.trim().split('\n')).toEqual(['stand-in', 'none']);
  });

  it('sets cookies for itself alone', async () => {
    const answer = await fetchCookies(strangersHost());
    expect(answer).toEqual(['mine=1; Path=/', 'wide=1', 'own=1; Path=/; HttpOnly']);
  });

  it('takes nothing else, and what it shows goes nowhere else', async () => {
    const { items } = await world
      .api()
      .get<PageOf<{ number: number; commit: { id: string } }>>('/api/projects/sailings/releases');
    const of = (commit: string) => items.find((one) => one.commit.id === commit)?.number as number;
    const strangers = (await review('offer')).live?.release as number;
    const own = of(commits.winter as string);
    const act = (environment: string, release: number) =>
      world.api().raw('POST', `/api/projects/sailings/environments/${environment}/deployments`, {
        body: { kind: 'deploy', release },
        headers: { 'idempotency-key': crypto.randomUUID() },
      });
    expect((await act(`pr-${pulls.winter}`, strangers)).body.code).toBe('release_untrusted');
    expect((await act('staging', strangers)).body.code).toBe('release_untrusted');
    expect((await act(`pr-${pulls.offer}`, own)).body.code).toBe('release_untrusted');
  });

  it('begins anew when its author may write by now, and when they may no more', async () => {
    await inside('psql "$DATABASE_URL" -qc "insert into marks values (\'of before\')"');
    await codehost.trustPull('sailings', pulls.offer as number, true);
    const trusted = await until('it is one of the others', async () => {
      const one = await review('offer');
      return one.review?.outside === false && one.live?.commit.id === commits.offer && one.moving === null ? one : null;
    });
    expect(trusted.url).toContain(`pr-${pulls.offer}-sailings.review.localhost`);
    expect((await world.visit(strangersHost())).status).toBe(404);
    const host = `pr-${pulls.offer}-sailings.review.localhost`;
    expect((await inside('echo "$SMS_KEY"; psql "$DATABASE_URL" -Atc "select count(*) from marks"', host)).out).toBe(
      'the real key\n0\n',
    );
    await codehost.trustPull('sailings', pulls.offer as number, false);
    await until('it is closed', async () => (await review('offer')).state === 'closed');
    expect((await world.visit(host)).status).toBe(404);
    await branch('offer', { 'text.txt': 'the third' });
    await waiting('offer');
    await world.cli('run', 'allow', commits.offer as string, '--project', 'sailings');
    await until('it is a stranger’s again', async () => {
      const one = await review('offer');
      return one.review?.outside === true && one.live !== null && one.moving === null;
    });
    expect((await inside('echo "$SMS_KEY"')).out.trim()).toBe('stand-in');
  });

  it('goes with its pull request, and nothing of it is left', async () => {
    await codehost.closePull('sailings', pulls.offer as number, 'abandoned');
    await until('it is closed', async () => (await review('offer')).state === 'closed');
    expect((await world.visit(strangersHost())).status).toBe(404);
    expect(
      await administer(
        world,
        'untrusted',
        `select 1 from pg_database where datname ~ '^[dnx]_' union all select 1 from pg_roles where rolname ~ '^[lov]_'`,
      ),
    ).toEqual([]);
  });
});

async function fetchCookies(host: string): Promise<string[]> {
  const { request } = await import('node:http');
  return new Promise((resolve, reject) => {
    const port = world.house.edgePort;
    request({ host: '127.0.0.1', port, path: '/cookies', headers: { host: `${host}:${port}` } }, (answer) => {
      answer.resume();
      resolve(answer.headers['set-cookie'] ?? []);
    })
      .on('error', reject)
      .end();
  });
}
