/** How many and how large: held by the machine, changed at once, without a lost request; and where instances go. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Size } from '../../src/wire/environments/environments.js';
import { startAgent } from './rooms.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
let commit: string;
const host = 'sized-staging.localhost';
const program = `import { createServer } from 'node:http';
const kept = [];
createServer((request, response) => {
  if (request.url === '/eat') for (;;) kept.push(Buffer.alloc(8 * 1024 * 1024, 1));
  if (request.url === '/spin') {
    const [began, used] = [performance.now(), process.cpuUsage()];
    while (performance.now() - began < 600);
    const { user, system } = process.cpuUsage(used);
    return response.end(String((user + system) / 1000 / (performance.now() - began)));
  }
  response.end(String(process.pid));
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = (part = '', environment = '') => `tsunagi: 1
release:
  parts:
    api: { kind: server, start: node server.js, at: /${part} }
    bell: { kind: worker, start: "exec sleep 100000" }
environments:
  staging: { branch: main${environment} }
`;
beforeAll(async () => {
  world = await openWorld();
  ({ checkout, first: commit } = await world.hosted('sized', {
    'package.json': '{ "type": "module" }',
    'server.js': program,
    'tsunagi.yaml': definition(', memory: 128M, cpu: 0.5'),
  }));
  await checkout.push();
  await world.waitLive('sized', 'staging', commit);
});
afterAll(() => world?.close());

const path = '/api/projects/sized/environments/staging';
const scale = (body: object) => world.api().post<Size>(`${path}/scale`, body);
const ready = async (part: string) => {
  const { instanceList, live } = await world.environment('sized', 'staging');
  return instanceList.filter(
    (one) => one.part === part && one.state === 'ready' && one.wanted && one.deployment === live?.number,
  );
};

describe('a part with a size', () => {
  it('has the processor that it asks for', async () => {
    const share = Number((await world.visit(host, '/spin')).text);
    expect(share).toBeGreaterThan(0.2);
    expect(share).toBeLessThan(0.75);
  });
  it('is ended beyond its memory, said with the limit, and started again', async () => {
    const [before] = await ready('api');
    await world.visit(host, '/eat').catch(() => {});
    const ended = await until('it says why it ended', async () =>
      (await world.environment('sized', 'staging')).instanceList.find((one) => one.id === before?.id && one.issue),
    );
    expect(ended.issue?.says).toMatch(/api was ended: it needed more memory than the 128 MiB/);
    await until('it answers again', async () => (await world.visit(host, '/')).status === 200);
  });
});

describe('scale', () => {
  it('adds and ends instances at once, and loses no request', async () => {
    let [lost, asked] = [0, 0];
    const asking = setInterval(() => {
      asked++;
      world.visit(host, '/').then(
        (answer) => void (lost += answer.status === 200 ? 0 : 1),
        () => lost++,
      );
    }, 15);
    const up = await world.cli('scale', 'sized/staging', '--part', 'api', '--instances', '3');
    expect([up.status, up.out]).toEqual([0, expect.stringContaining('api of sized/staging: 3 instances')]);
    expect(await ready('api')).toHaveLength(3);
    await until('all of them answer', async () => {
      const pids = await Promise.all(Array.from({ length: 30 }, () => world.visit(host, '/')));
      return new Set(pids.map((one) => one.text)).size >= 1;
    });
    const larger = await world.cli('scale', 'sized/staging', '--part', 'api', '--memory', '256M', '--cpu', '1');
    expect([larger.status, larger.out]).toEqual([0, expect.stringContaining('256M of memory each, 1 cores each')]);
    const down = await world.cli('scale', 'sized/staging', '--part', 'api', '--instances', '1');
    expect(down.status).toBe(0);
    expect(await ready('api')).toHaveLength(1);
    clearInterval(asking);
    expect(asked).toBeGreaterThan(30);
    expect(lost).toBe(0);
    expect((await world.environment('sized', 'staging')).health).toBe('good');
  });
  it('lets a worker rest, and a server never', async () => {
    await scale({ part: 'bell', instances: 0 });
    await until('it rests', async () => (await ready('bell')).length === 0);
    expect((await world.environment('sized', 'staging')).health).toBe('good');
    await scale({ part: 'bell', reset: true });
    await until('it works again', async () => (await ready('bell')).length === 1);
    const refused = await world.api().raw('POST', `${path}/scale`, {
      body: { part: 'api', instances: 0 },
      headers: { 'idempotency-key': 'scale to nothing' },
    });
    expect([refused.status, refused.body.code]).toEqual([422, 'scale_wrong']);
    const unknown = await world.cli('scale', 'sized/staging', '--part', 'apy', '--instances', '2');
    expect([unknown.status, unknown.err]).toEqual([1, expect.stringContaining('api')]);
  });
  it('outlives a deployment, and gives way when it is taken back', async () => {
    await scale({ part: 'api', instances: 2 });
    const next = await checkout.commitAndPush(
      { 'tsunagi.yaml': definition('', ', parts: { api: { instances: 3 } }') },
      'Three',
    );
    await world.waitLive('sized', 'staging', next);
    expect(await ready('api')).toHaveLength(2);
    await world.cli('scale', 'sized/staging', '--part', 'api', '--reset');
    await until('three', async () => (await ready('api')).length === 3);
  });
  it('beyond what any agent has is said in words, and harms nothing', async () => {
    const { status, out } = await world.cli('scale', 'sized/staging', '--part', 'api', '--memory', '400G');
    expect([status, out]).toEqual([
      1,
      expect.stringMatching(/No agent has 400 GiB of memory left for api; the most that one has is/),
    ]);
    expect((await world.visit(host, '/')).status).toBe(200);
    await world.cli('scale', 'sized/staging', '--part', 'api', '--reset');
  });
});

describe('a part between bounds', () => {
  it('has more instances when its processor is taken, said in the record', async () => {
    const next = await checkout.commitAndPush(
      { 'tsunagi.yaml': definition(', cpu: 0.2, instances: { min: 1, max: 3, cpu: 50% }') },
      'Bounds',
    );
    await world.waitLive('sized', 'staging', next);
    expect(await ready('api')).toHaveLength(1);
    let going = true;
    const spin = (async () => {
      while (going) await Promise.all([1, 2].map(() => world.visit(host, '/spin').catch(() => null)));
    })();
    try {
      await until('more than one', async () => (await ready('api')).length > 1);
    } finally {
      going = false;
      await spin;
    }
    const [event] = await world.events('project=sized&type=environment.scaled');
    expect(event).toMatchObject({ data: { part: 'api', before: 1, instances: 2 } });
    // Who says a number wants that number.
    const fixed = await scale({ part: 'api', instances: 1 });
    expect(fixed).toMatchObject({ instances: 1, auto: null });
  });
});

describe('two agents', () => {
  it('share the instances of a part; what one had comes up at the other when it is gone', async () => {
    const other = await startAgent(world, 'agent-2', 'live');
    try {
      await scale({ part: 'api', instances: 4 });
      await until('two at each', async () => {
        const list = await ready('api');
        return list.length === 4 && list.some((one) => one.agent === 'agent-2');
      });
      await world.api().post(`${path}/restart`, { part: 'api' });
      await until('they are spread', async () => {
        const list = await ready('api');
        return list.length === 4 && list.filter((one) => one.agent === 'agent-2').length === 2;
      });
      other.kill();
      await until('all are at the first', async () => {
        const list = await ready('api');
        return list.length === 4 && list.every((one) => one.agent === 'agent-1');
      });
      expect((await world.visit(host, '/')).status).toBe(200);
    } finally {
      await other.end();
    }
  });
});
