/** Places that stand ready for servers: used once, as tightly closed as those that are made anew, and gone with their agent. */
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { readState } from '../../src/agent/instances/keeper.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const host = 'swift-staging.localhost';
const server = (text: string) => `import { createServer } from 'node:http';
import { connect } from 'node:net';
const reach = (address) => new Promise((resolve) => {
  const socket = connect({ host: address, port: 80, timeout: 2000 });
  socket.on('connect', () => resolve('reached')).on('timeout', () => resolve('silent')).on('error', (error) => resolve(error.code));
});
createServer(async (request, response) => {
  const [, what, address] = request.url.split('/');
  response.end(what === 'reach' ? await reach(address) : '${text}');
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, ready: /, memory: 96M } }
environments:
  staging: { branch: main }
`;
beforeAll(async () => {
  world = await openWorld({ timing: { lease: 10_000 } });
  let first: string;
  ({ checkout, first } = await world.hosted('swift', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server('one'),
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await world.waitLive('swift', 'staging', first);
});
afterAll(() => world?.close());

const agent = () => join(world.folder, 'house/agent');
const standing = () =>
  until('a place stands ready', async () => {
    const found = readdirSync(join(agent(), 'work')).filter((name) => existsSync(join(agent(), 'work', name, 'held')));
    const [id] = found.filter((name) => name.startsWith('s-'));
    return id ? { id, pasta: pidIn(join(agent(), 'work', id)) } : null;
  });
const pidIn = (folder: string) => Number(readFileSync(join(folder, 'pasta.pid'), 'utf8'));
const running = (pid: number) => existsSync(`/proc/${pid}`);
const liveOne = async () => {
  const { instanceList } = await world.environment('swift', 'staging');
  const one = instanceList.find(({ state }) => state === 'ready');
  return one as NonNullable<typeof one>;
};
const say = async () => (await world.visit(host)).text;
const next = async (text: string) =>
  world.waitLive('swift', 'staging', await checkout.commitAndPush({ 'server.js': server(text) }, text));
const groups = (id: string) =>
  ['memory', 'pids', 'cpu', 'unified', '.'].filter((one) => existsSync(join('/sys/fs/cgroup', one, `tsunagi-${id}`)));

/** Where no network can be tied, or no group made, none ever stands ready: what is made anew is tested elsewhere. */
const able = async () => {
  const { items } = await world.api().get<{ items: { sandbox: { network: string; limits: string } }[] }>('/api/agents');
  return items.every(({ sandbox }) => sandbox.network === 'pasta' && sandbox.limits !== 'none');
};

describe('a place that stands ready', () => {
  it('becomes that of the next server, with its limits, and is as closed as any other', async () => {
    if (!(await able())) return;
    const place = await standing();
    await next('two');
    expect(await say()).toBe('two');
    const { id } = await until('the new one alone is there', async () => {
      const one = await liveOne();
      return pidIn(join(agent(), 'live', one.id)) === place.pasta && one;
    });
    expect([existsSync(join(agent(), 'work', place.id)), groups(place.id)]).toEqual([false, []]);
    const memory = ['memory/', ''].flatMap((tree) =>
      ['memory.limit_in_bytes', 'memory.max'].map((file) => join('/sys/fs/cgroup', tree, `tsunagi-${id}`, file)),
    );
    const limit = memory.find((path) => existsSync(path)) as string;
    expect(Number(readFileSync(limit, 'utf8'))).toBe(96 * 1024 ** 2);
    const members = readFileSync(join(limit, '../cgroup.procs'), 'utf8').split('\n').map(Number);
    expect(members).toContain(place.pasta);
    for (const address of ['10.0.0.1', '192.168.1.1', '169.254.169.254'])
      expect((await world.visit(host, `/reach/${address}`)).text).toMatch(/^E(HOST|NET)UNREACH$/);
  });

  it('is passed over where its network has ended meanwhile', async () => {
    if (!(await able())) return;
    const place = await standing();
    process.kill(place.pasta, 'SIGKILL');
    await until('it has ended', async () => !running(place.pasta));
    await next('three');
    expect(await say()).toBe('three');
    expect(pidIn(join(agent(), 'live', (await liveOne()).id))).not.toBe(place.pasta);
  });

  it('goes with an agent that is killed, and what runs stays', async () => {
    if (!(await able())) return;
    const place = await standing();
    const { id } = await liveOne();
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    await until('it has ended', async () => !running(place.pasta));
    expect([await say(), (await liveOne()).id]).toEqual(['three', id]);
    await until('nothing of it is left', async () => groups(place.id).length === 0);
    await next('four');
    expect(await say()).toBe('four');
  });

  it('goes with an agent that is ended', async () => {
    if (!(await able())) return;
    const place = await standing();
    await world.restart();
    await until('it has ended', async () => !running(place.pasta) && groups(place.id).length === 0);
    await until('it is served again', async () => (await say()) === 'four');
  });

  it('whose agent died before it had begun is no instance', () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-never-'));
    const work = {
      id: crypto.randomUUID(),
      fence: '1',
      label: 'api',
      part: 'api',
      kind: 'server',
      layers: [],
      start: 'true',
      variables: {},
      secret: [],
      ready: '/',
      readyMs: 1,
      drainMs: 1,
      logBytes: 0,
    };
    const log = { segment: 0, offset: 0, position: 0 };
    const state = { work, port: 20_001, keeper: 1, keeperStart: '1', ready: false, ending: false, log };
    try {
      writeFileSync(join(folder, 'state.json'), JSON.stringify(state));
      writeFileSync(join(folder, 'held'), '');
      expect(() => readState(folder)).toThrow('it has never begun');
      writeFileSync(join(folder, 'begun'), '');
      expect(readState(folder).port).toBe(20_001);
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });
});
