/** Deployments and agents where things go wrong twice, or at the wrong moment. */
import { execFileSync } from 'node:child_process';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { AddedToken } from '../../src/wire/people.js';
import type { Deployment, EnvironmentDetail } from '../../src/wire/environments/environments.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { RunDetail } from '../../src/wire/runs.js';
import { type RunningEdge, startEdge } from '../../src/edge/edge.js';
import type { TableAnswer } from '../../src/wire/rooms/work.js';
import { api, app, appDefinition, type Checkout, openWorld, recordsOf, until, visit, type World } from './world.js';

let world: World;
beforeAll(async () => {
  world = await openWorld({ timing: { lease: 3_000, warm: 60_000 } });
});
afterAll(() => world?.close());

const sleeping = (mark: string) =>
  execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })
    .split('\n')
    .filter((line) => line.trim() === `sleep ${mark}`).length;

describe('a first deployment that fails and serves', () => {
  const definition = (mark: string, verify: string) => `tsunagi: 1
tasks: { t: { run: "true" } }
release:
  needs: [t]
  parts:
    api: { kind: server, files: [server.js, package.json], start: node server.js, ready: / }
    bell: { kind: worker, files: [package.json], start: exec sleep ${mark} }
environments:
  staging: { branch: main, verify: { reads: [], run: "${verify}" } }
`;
  const server = (text: string) =>
    `import { createServer } from 'node:http';\ncreateServer((_, response) => response.end('${text}')).listen(process.env.PORT);\nprocess.on('SIGTERM', () => process.exit(0));\n`;

  it('ends with the next one, whether that fails too or not; its workers never work beside others', async () => {
    const { checkout, first } = await world.hosted('twice', {
      'package.json': '{ "type": "module" }\n',
      'server.js': server('one'),
      'tsunagi.yaml': definition('1111.1', 'false'),
    });
    await checkout.push();
    await world.waitRun('twice', first);
    const failed = await until('the first has failed', async () => {
      const detail = await world.environment('twice', 'staging').catch(() => null);
      return detail?.history.some((one) => one.number === 1 && one.state === 'failed') ? detail : null;
    });
    expect(failed.live).toBeNull();
    expect((await world.visit('twice-staging.localhost')).text).toBe('one');
    await until('its worker runs', async () => sleeping('1111.1') === 1);
    let most = 0;
    const counting = setInterval(() => {
      most = Math.max(most, sleeping('1111.1') + sleeping('2222.2') + sleeping('3333.3'));
    }, 30);
    await checkout.commitAndPush(
      { 'server.js': server('two'), 'tsunagi.yaml': definition('2222.2', 'false') },
      'fails too',
    );
    await until('the second has failed', async () =>
      (await world.environment('twice', 'staging')).history.some((one) => one.number === 2 && one.state === 'failed'),
    );
    // What served serves on, with its own worker.
    await until(
      'the first is back',
      async () => (await world.visit('twice-staging.localhost')).text === 'one' && sleeping('1111.1') === 1,
    );
    await until('nothing of the second is left', async () => sleeping('2222.2') === 0);
    const commit = await checkout.commitAndPush(
      { 'server.js': server('three'), 'tsunagi.yaml': definition('3333.3', 'true') },
      'works',
    );
    await world.waitLive('twice', 'staging', commit);
    expect((await world.visit('twice-staging.localhost')).text).toBe('three');
    await until('its worker alone is left', async () => sleeping('1111.1') === 0 && sleeping('3333.3') === 1);
    clearInterval(counting);
    expect(most).toBe(1);
    await until('its servers alone are left', async () => {
      const running = (await world.environment('twice', 'staging')).instanceList.filter(
        (one) => one.state === 'ready' || one.state === 'starting',
      );
      return running.every((one) => one.wanted) && running.length === 2;
    });
  });
});

describe('a revert while another deployment is on its way', () => {
  it('ends that one, goes back to what served, and holds', async () => {
    const { checkout, first } = await world.hosted('midway', { ...app('one'), 'tsunagi.yaml': appDefinition });
    await checkout.push();
    await world.waitLive('midway', 'staging', first);
    const slow = app('two');
    // Never ready: the deployment stays on its way.
    slow['server.js'] = slow['server.js']
      ?.replace(
        'createServer((request, response) => ',
        'createServer((request, response) => request.url !== "/never" && 0 ? 0 : setTimeout(() => ',
      )
      .replace('))).listen', ')), 3e5)).listen') as string;
    slow['server.js'] =
      `import { createServer } from 'node:http';\ncreateServer(() => {}).listen(process.env.PORT);\nprocess.on('SIGTERM', () => process.exit(0));\n`;
    await checkout.commitAndPush(slow, 'two');
    await until(
      'it is on its way',
      async () => (await world.environment('midway', 'staging')).moving?.state === 'starting',
    );
    const answer = await world.act('midway', 'staging', { kind: 'revert' });
    const ended = await world.waitDeployment('midway', answer.number);
    expect([ended.state, ended.failure?.says]).toEqual(['failed', 'owner has reverted the environment meanwhile.']);
    const detail = await world.environment('midway', 'staging');
    expect([detail.live?.release, detail.held?.why]).toEqual([
      1,
      expect.stringContaining('reverted to r1 while r2 was on its way'),
    ]);
    expect(JSON.parse((await world.visit('midway-staging.localhost', '/api')).text).text).toBe('one');
    await until('its programs are gone', async () =>
      (await world.environment('midway', 'staging')).instanceList.every(
        (one) => one.wanted || (one.state !== 'ready' && one.state !== 'starting'),
      ),
    );
  });
});

describe('promotions at the same moment', () => {
  it('are one that goes and others that are refused in words, whichever release they ask for', async () => {
    const { checkout, first } = await world.hosted('pair', { ...app('one'), 'tsunagi.yaml': appDefinition });
    await checkout.push();
    await world.waitLive('pair', 'staging', first);
    await world.waitLive('pair', 'staging', await checkout.commitAndPush(app('two'), 'Two'));
    const ask = (release: number) =>
      world.api().raw('POST', '/api/projects/pair/environments/production/deployments', {
        body: { kind: 'promote', release },
        headers: { 'idempotency-key': crypto.randomUUID() },
      });
    const answers = await Promise.all([ask(2), ask(1), ask(2)]);
    const taken = answers.filter(({ status }) => status < 400);
    expect(taken).toHaveLength(1);
    for (const { status, body } of answers.filter((one) => one.status >= 400))
      expect([status, body.code, body.detail]).toEqual([
        409,
        'not_promotable',
        expect.stringMatching(/^r[12] cannot be promoted to pair\/production: another deployment is on its way/),
      ]);
    const { number, release } = (taken[0] as { body: unknown }).body as Deployment;
    expect((await world.waitDeployment('pair', number)).state).toBe('live');
    const { live, history } = await world.environment('pair', 'production');
    expect([live?.release, history.length]).toEqual([release, 1]);
  });
});

describe('a busy branch', () => {
  it('keeps two replaced releases warm at most', async () => {
    const { checkout } = await world.hosted('busy', { ...app('0'), 'tsunagi.yaml': appDefinition });
    let commit = '';
    for (let n = 1; n <= 5; n++) {
      commit = await checkout.commitAndPush(app(String(n)), String(n));
      await world.waitLive('busy', 'staging', commit);
    }
    const warm = async () => {
      const list = (await world.environment('busy', 'staging')).instanceList.filter(
        (one) => one.kind === 'server' && one.state === 'ready',
      );
      return list.length;
    };
    // Two servers of what is live, and two of each of two others.
    await until('the others have ended', async () => (await warm()) === 6);
    const reverted = await world.act('busy', 'staging', { kind: 'revert' });
    expect((await world.waitDeployment('busy', reverted.number)).state).toBe('live');
    await until('what was reverted is not kept warm', async () => (await warm()) <= 6);
  });
});

describe('an agent', () => {
  let checkout: Checkout;
  const runOf = async (commit: string) => world.waitRun('steady', commit);
  beforeAll(async () => {
    ({ checkout } = await world.hosted('steady', { 'a.txt': 'a' }));
  });
  const long = (mark: string) => ({
    'tsunagi.yaml': `tsunagi: 1\ntasks:\n  t: { reuse: false, run: 'for n in {1..100}; do echo ${mark} $n; sleep 0.1; done' }\n`,
  });

  it('goes on with its work through an outage of the database that is longer than two leases, and so does who reads', async () => {
    const commit = await checkout.commitAndPush(long('outage'));
    const attempt = await until('it runs', async () => {
      const { items } = await world
        .api()
        .get<PageOf<{ number: number; commit: { id: string } }>>('/api/runs?project=steady');
      const run = items.find((one) => one.commit.id === commit);
      const detail = run && (await world.api().get<RunDetail>(`/api/projects/steady/runs/${run.number}`));
      return detail?.taskList[0]?.attempts[0]?.state === 'running' ? detail.taskList[0].attempts[0] : null;
    });
    const reading = world.cli(
      'follow',
      String((await world.api().get<PageOf<{ number: number }>>('/api/runs?project=steady')).items[0]?.number),
      '--project',
      'steady',
    );
    const pid = world.house.rooms.database.pid() as number;
    const children = execFileSync('ps', ['--ppid', String(pid), '-o', 'pid='], { encoding: 'utf8' })
      .split('\n')
      .map(Number)
      .filter(Boolean);
    const signalAll = (signal: 'SIGSTOP' | 'SIGCONT') => {
      for (const one of [pid, ...children]) {
        try {
          process.kill(one, signal);
        } catch {
          // It has ended.
        }
      }
    };
    signalAll('SIGSTOP');
    await new Promise((resolve) => setTimeout(resolve, 7_000));
    signalAll('SIGCONT');
    const run = await runOf(commit);
    expect([run.state, run.taskList[0]?.attempts.map((one) => one.state)]).toEqual(['passed', ['passed']]);
    expect(run.taskList[0]?.attempts[0]?.id).toBe(attempt.id);
    const { out, status } = await reading;
    expect([status, out.split('\n').filter((line) => line.includes('outage')).length]).toEqual([0, 100]);
  });

  it('goes on when the database dies, and when the service does: nothing of it is done twice', async () => {
    for (const room of ['database', 'service'] as const) {
      const commit = await checkout.commitAndPush(long(room));
      await until('it runs', async () =>
        (
          await world.api().get<PageOf<{ state: string; commit: { id: string } }>>('/api/runs?project=steady')
        ).items.some((one) => one.commit.id === commit && one.state === 'running'),
      );
      await new Promise((resolve) => setTimeout(resolve, 500));
      process.kill(world.house.rooms[room].pid() as number, 'SIGKILL');
      const run = await runOf(commit);
      expect([room, run.state, run.taskList[0]?.attempts.map((one) => one.state)]).toEqual([
        room,
        'passed',
        ['passed'],
      ]);
      expect((await world.log(run.taskList[0]?.attempts[0]?.id as string)).split('\n').filter(Boolean)).toHaveLength(
        100,
      );
    }
  });

  it('takes what its token says, under its name, at its address and ports', async () => {
    const add = (body: object) => world.api().post<AddedToken>('/api/tokens', body);
    const runs = await add({ name: 'agent-9', kind: 'agent', takes: ['runs'], ports: { from: 21_000, to: 21_009 } });
    expect(runs).toMatchObject({ takes: ['runs'], address: '127.0.0.1', ports: { from: 21_000, to: 21_009 } });
    const boot = crypto.randomUUID();
    const register = (token: string, change: object = {}) =>
      api(world.url, token).raw('POST', '/api/agent/register', {
        body: {
          name: 'agent-9',
          boot,
          slots: 0,
          tools: {},
          base: '0'.repeat(64),
          sandbox: {},
          attempts: [],
          hurt: [],
          ...change,
        },
      });
    for (const change of [
      { takes: ['live'] },
      { takes: ['runs', 'untrusted'] },
      { name: 'agent-1' },
      { name: 'other' },
      { address: '10.0.0.1' },
    ])
      expect((await register(runs.token, change)).body.code).toBe('token_grant');
    expect((await register(runs.token)).body).toMatchObject({
      address: '127.0.0.1',
      ports: { from: 21_000, to: 21_009 },
    });
    // With it nothing that is live is given out, whatever it asks for.
    const poll = { boot, full: null, slots: 9, room: 99, attempts: [], instances: [], gaveUp: [], waitMs: 0 };
    expect((await api(world.url, runs.token).raw('POST', '/api/agent/poll', { body: poll })).body).toMatchObject({
      instances: [],
    });
    const live = await add({ name: 'agent-8', kind: 'agent', takes: ['live'], ports: { from: 21_000, to: 21_009 } });
    expect((await register(live.token, { name: 'agent-8' })).status).toBe(200);
    const id = crypto.randomUUID();
    const report = { fence: '1', state: 'ready', port: world.house.ports.console, exit: null, issue: null };
    expect(
      (await api(world.url, live.token).raw('POST', `/api/agent/instances/${id}/report`, { body: report })).body.code,
    ).toBe('token_grant');
    const edge = await add({ name: 'edge-9', kind: 'edge' });
    const table = (name: string) =>
      api(world.url, edge.token).raw('POST', '/api/edge/table', { body: { name, have: 0, waitMs: 0, without: [] } });
    expect((await table('edge-8')).body.code).toBe('token_grant');
    expect((await table('edge-1')).body.code).toBe('token_grant');
    await world.api().raw('DELETE', `/api/tokens/${edge.id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
    for (const bad of [
      { name: 'No Name', kind: 'agent' },
      { name: 'x', kind: 'edge', takes: ['live'] },
      { name: 'y', kind: 'agent', ports: { from: 3_000, to: 2_000 } },
    ])
      expect(
        (
          await world
            .api()
            .raw('POST', '/api/tokens', { body: bad, headers: { 'idempotency-key': crypto.randomUUID() } })
        ).status,
      ).toBeGreaterThanOrEqual(400);
  });
});

describe('an edge that knew other records', () => {
  it('begins at 0, acknowledges nothing, and forgets what these do not name', async () => {
    const { checkout, first } = await world.hosted('pier', { ...app('pier'), 'tsunagi.yaml': appDefinition });
    await checkout.push();
    await world.waitLive('pier', 'staging', first);
    const added = await world.api().post<AddedToken>('/api/tokens', { name: 'edge-3', kind: 'edge' });
    const ask = async (more: object) =>
      (
        await api(world.url, added.token).raw('POST', '/api/edge/table', {
          body: { name: 'edge-3', have: 1_000_000, waitMs: 0, without: [], ...more },
        })
      ).body as unknown as TableAnswer;
    const acknowledged = async () =>
      (await recordsOf<{ had: string }>(world, `select acknowledged as had from edges where name = 'edge-3'`))[0]?.had;
    const whole = await ask({ epoch: '' });
    expect(whole).toMatchObject({ whole: true, epoch: expect.stringMatching(/^[0-9a-f-]{36}$/) });
    expect(whole.routes.map((one) => one.host)).toContain('pier-staging.localhost');
    expect(await acknowledged()).toBe('0');
    const has = Math.max(...whole.routes.map((one) => one.version));
    expect(await ask({ epoch: whole.epoch, have: has })).toEqual({ epoch: whole.epoch, routes: [] });
    expect(await acknowledged()).toBe(String(has));
    // What it cannot name it does not acknowledge.
    await ask({ epoch: whole.epoch, have: has, acknowledges: has - 1 });
    expect(await acknowledged()).toBe(String(has - 1));
    await world.api().raw('DELETE', `/api/tokens/${added.id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
    // As after a restore to a moment before this environment, whose versions were lower.
    expect((await world.visit('pier-staging.localhost')).status).toBe(200);
    await recordsOf(world, `delete from routes where host = 'pier-staging.localhost'`);
    await recordsOf(world, 'update installation set epoch = gen_random_uuid()');
    await until('it leads nowhere', async () => (await world.visit('pier-staging.localhost')).status === 404);
    const [kept] = await recordsOf<{ epoch: string }>(world, 'select epoch from installation');
    await until('the edge knows the records by their epoch', async () =>
      readFileSync(join(world.folder, 'house/edge/table.json'), 'utf8').includes(kept?.epoch as string),
    );
  });
});

describe('two edges', () => {
  it('both have what is live before it counts; one that dies holds nothing up for long, and has it when it is back', async () => {
    const token = await world.api().post<AddedToken>('/api/tokens', { name: 'edge-2', kind: 'edge' });
    const port = world.house.edgePort + 40;
    const open = () =>
      startEdge({
        url: world.url,
        token: token.token,
        name: 'edge-2',
        folder: join(world.folder, 'edge-2'),
        host: '127.0.0.1',
        port,
        logLevel: 'silent',
      });
    const texts = async (at: number) => (await visit(at, 'two-staging.localhost', '/')).text.trim();
    let second: RunningEdge | null = await open();
    try {
      const { checkout, first } = await world.hosted('two', { ...app('one'), 'tsunagi.yaml': appDefinition });
      await checkout.push();
      await world.waitLive('two', 'staging', first);
      expect([await texts(world.house.edgePort), await texts(port)]).toEqual(['<h1>one</h1>', '<h1>one</h1>']);
      const commit = await checkout.commitAndPush(app('two'), 'Two');
      await world.waitLive('two', 'staging', commit);
      expect([await texts(world.house.edgePort), await texts(port)]).toEqual(['<h1>two</h1>', '<h1>two</h1>']);
      await second.close();
      second = null;
      // Its silence is waited out, then it is no reader of the table any more.
      const third = await checkout.commitAndPush(app('three'), 'Three');
      await world.waitLive('two', 'staging', third);
      expect(await texts(world.house.edgePort)).toBe('<h1>three</h1>');
      second = await open();
      await until('it has what came meanwhile', async () => (await texts(port).catch(() => '')) === '<h1>three</h1>');
      await second.close();
      second = null;
      // An unreachable edge may still send requests to what it knew: nothing of that is ended.
      const running = (await world.environment('two', 'staging')).instanceList.filter((one) => one.state === 'ready');
      const folders = running.map((one) => join(world.folder, 'house/agent/live', one.id));
      const remove = (path: string) =>
        world.api().raw('DELETE', path, { headers: { 'idempotency-key': crypto.randomUUID() } });
      await remove('/api/projects/two');
      await new Promise((resolve) => setTimeout(resolve, 3_000));
      expect(folders.map((folder) => existsSync(folder))).toEqual(folders.map(() => true));
      // No loop looks again and again meanwhile: what comes next is an acknowledgement.
      const [waits] = await recordsOf<{ ms: number }>(
        world,
        `select extract(epoch from due_at - now())::float8 * 1000 as ms from environments where host = 'two-staging.localhost'`,
      );
      expect(waits?.ms).toBeGreaterThan(30_000);
      const command = `tsunagi token remove ${token.id}`;
      await until('an alert names the command', async () => {
        const { items } = await world
          .api()
          .get<{ items: { type: string; subject: string; data: { says: string } }[] }>(
            '/api/events?type=alert.began&limit=100',
          );
        return items.some((one) => one.subject === 'edge-2' && one.data.says.includes(command));
      });
      await remove(`/api/tokens/${token.id}`);
      await until('all of it has ended', async () => folders.every((folder) => !existsSync(folder)));
    } finally {
      await second?.close();
    }
  });
});

describe('a report that the service does not take', () => {
  it('fails its attempt in words, once', async () => {
    const { checkout } = await world.hosted('refused', { 'a.txt': 'a' });
    // More test cases than a report may hold: its body is larger than is taken.
    const commit = await checkout.commitAndPush({
      'big.py': `print('<testsuite>')\nfor n in range(19000): print('<testcase classname="c%d" name="%s"><failure>%s</failure></testcase>' % (n, 'n' * 400, 'm' * 400))\nprint('</testsuite>')\n`,
      'tsunagi.yaml': "tsunagi: 1\ntasks:\n  t: { run: 'python3 big.py > junit.xml', results: junit.xml }\n",
    });
    const run = await world.waitRun('refused', commit);
    expect(run.taskList[0]?.attempts).toHaveLength(1);
    expect(['passed', 'failed']).toContain(run.state);
  });
});

describe('a worker whose agent is cut off', () => {
  it('ends within the lease, by a clock that nobody sets, and says why', async () => {
    const { checkout, first } = await world.hosted('cut', {
      'package.json': '{ "type": "module" }\n',
      'tsunagi.yaml': `tsunagi: 1
tasks: { t: { run: "true" } }
release: { needs: [t], parts: { bell: { kind: worker, files: [package.json], start: exec sleep 4444.4 } } }
environments: { staging: { branch: main } }
`,
    });
    await checkout.push();
    const live = await world.waitLive('cut', 'staging', first);
    const folder = join(world.folder, 'house/agent/live', live.instanceList[0]?.id as string);
    const until1 = Number(readFileSync(join(folder, 'lease'), 'utf8'));
    const up = Number(readFileSync('/proc/uptime', 'utf8').split(' ')[0]);
    expect(until1 - up).toBeLessThanOrEqual(3);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGSTOP');
    await until('it has ended', async () => sleeping('4444.4') === 0, 30_000);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGCONT');
    const detail = await until('it is back', async () => {
      const one: EnvironmentDetail = await world.environment('cut', 'staging');
      return one.instanceList.some((instance) => instance.state === 'ready') && sleeping('4444.4') === 1 ? one : null;
    });
    const told = detail.instanceList.find((one) => one.state === 'failed' || one.state === 'lost');
    expect([told?.state, told?.issue?.says ?? '']).not.toEqual([undefined, '']);
    expect(`${told?.issue?.says}`).not.toContain('137');
    const deployment = await world.api().get<Deployment>('/api/projects/cut/deployments/1');
    expect(deployment.state).toBe('live');
    writeFileSync(join(world.folder, 'crash-at'), '');
  });

  it('starts again, and the deployment that it belongs to goes on', async () => {
    const { checkout, first } = await world.hosted('touch', {
      'package.json': '{ "type": "module" }\n',
      'tsunagi.yaml': `tsunagi: 1
tasks: { t: { run: "true" } }
release: { needs: [t], parts: { bell: { kind: worker, files: [package.json], start: exec sleep 5555.5 } } }
environments: { staging: { branch: main, verify: { reads: [], run: sleep 9 } } }
`,
    });
    await checkout.push();
    const state = async () => (await world.api().get<Deployment>('/api/projects/touch/deployments/1')).state;
    await until(
      'it is verified',
      async () => (await state().catch(() => null)) === 'verifying' && sleeping('5555.5') === 1,
    );
    process.kill(world.house.rooms.service.pid() as number, 'SIGSTOP');
    try {
      await until('its lease is over', async () => sleeping('5555.5') === 0, 30_000);
    } finally {
      process.kill(world.house.rooms.service.pid() as number, 'SIGCONT');
    }
    const live = await world.waitLive('touch', 'staging', first);
    expect(live.instanceList.map((one) => [one.state, one.issue?.code ?? null]).sort()).toEqual([
      [expect.stringMatching(/failed|lost/), expect.any(String)],
      ['ready', null],
    ]);
    expect(sleeping('5555.5')).toBe(1);
  });
});
