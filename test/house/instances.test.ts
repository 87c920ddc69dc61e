/** What an instance prints, and what becomes of it when its agent dies. */
import { existsSync, readdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { LogChunk } from '../../src/wire/logs.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { AddedToken } from '../../src/wire/people.js';
import type { PollAnswer } from '../../src/wire/rooms/work.js';
import { api, openWorld, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  // Longer than a busy machine takes to start an agent again.
  world = await openWorld({ timing: { lease: 30_000 } });
});
afterAll(() => world?.close());

/** A worker, with what its release says beside its parts. */
const definition = (more = '') => `tsunagi: 1
tasks: { t: { run: "true" } }
release:
  needs: [t]
  parts:
    bell: { kind: worker, files: [bell.js, package.json], start: node bell.js }
${more}environments:
  staging: { branch: main }
`;

describe('an agent', () => {
  it('that dies with an instance leaves it to the next one, its log whole and once', async () => {
    const { checkout: own, first } = await world.hosted('chatty', {
      'package.json': '{ "type": "module" }\n',
      'bell.js': "let n = 0;\nsetInterval(() => console.log('line', ++n, process.env.KEY), 50);\n",
      'tsunagi.yaml': definition('  variables: { KEY: { secret: true, about: a key } }\n'),
    });
    await world.cli('variable', 'set', 'KEY=a-secret-of-the-lane', '--secret', '--project', 'chatty');
    await own.push();
    const live = await world.waitLive('chatty', 'staging', first);
    const id = live.instanceList[0]?.id as string;
    const log = async () => {
      const { items } = await world.api().get<PageOf<LogChunk>>(`/api/instances/${id}/log`);
      return items.map((chunk) => chunk.text).join('');
    };
    await until('it prints', async () => (await log()).split('\n').length > 60);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    const before = (await log()).split('\n').length;
    await until('it goes on', async () => (await log()).split('\n').length > before + 60);
    const lines = (await log()).split('\n').slice(0, -1);
    expect(lines).toEqual(lines.map((_, at) => `line ${at + 1} ‹KEY›`));
    expect(
      (await world.environment('chatty', 'staging')).instanceList
        .filter((one) => one.state === 'ready')
        .map((one) => one.id),
    ).toEqual([id]);
  });

  it('keeps what an instance prints within bounds, on its disk and in the records', async () => {
    const { checkout: own, first } = await world.hosted('loud', {
      'package.json': '{ "type": "module" }\n',
      'bell.js':
        "const line = `${'x'.repeat(1000)}\\n`;\nconst go = () => { for (let n = 0; n < 200; n++) process.stdout.write(line); setTimeout(go, 10); };\ngo();\n",
      'tsunagi.yaml': definition(),
    });
    await own.push();
    const live = await world.waitLive('loud', 'staging', first);
    const id = live.instanceList[0]?.id as string;
    const folder = join(world.folder, 'house/agent/live', id);
    const files = () => (existsSync(folder) ? readdirSync(folder).filter((name) => /^log\.\d+$/.test(name)) : []);
    await until('its files have turned over', async () => files().some((name) => Number(name.slice(4)) > 6));
    expect(files().length).toBeLessThanOrEqual(5);
    expect(files().reduce((sum, name) => sum + statSync(join(folder, name)).size, 0)).toBeLessThan(45_000_000);
    await world.api().raw('DELETE', '/api/projects/loud', { headers: { 'idempotency-key': crypto.randomUUID() } });
    await until('it has ended', async () => !existsSync(folder), 150_000);
  }, 240_000);

  it('that never heard of an instance keeps nobody waiting for its end', async () => {
    const { checkout: own, first } = await world.hosted('quiet', {
      'package.json': '{ "type": "module" }\n',
      'bell.js': 'setInterval(() => {}, 1000);\n',
      'tsunagi.yaml': definition(),
    });
    await own.push();
    await world.waitLive('quiet', 'staging', first);
    // Another agent, whose answers are lost on their way.
    const { token } = await world.api().post<AddedToken>('/api/tokens', {
      name: 'deaf',
      kind: 'agent',
      takes: ['live'],
      address: '127.0.0.1',
      ports: { from: 33_000, to: 33_100 },
    });
    const boot = crypto.randomUUID();
    const none = { attempts: [], slots: 0 };
    const deaf = api(world.url, token);
    const register = { name: 'deaf', boot, tools: {}, base: '0'.repeat(64), sandbox: {}, hurt: [], ...none };
    expect((await deaf.raw('POST', '/api/agent/register', { body: register })).status).toBe(200);
    const poll = async (instances: object[] = []) => {
      const body = { boot, full: null, room: 5, instances, gaveUp: [], waitMs: 0, ...none };
      return (await deaf.raw('POST', '/api/agent/poll', { body })).body as unknown as PollAnswer;
    };
    await poll();
    const scale = (instances: number) =>
      world.api().post('/api/projects/quiet/environments/staging/scale', { part: 'bell', instances });
    const rows = async () =>
      (await world.environment('quiet', 'staging')).instanceList.map(({ position, state }) => `${position} ${state}`);
    await scale(2);
    await until('it was given one', async () => (await poll()).instances.length === 1);
    expect(await rows()).toContain('2 starting');
    // Told again for as long as it is wanted, and over when it is not.
    const [given] = (await poll()).instances as { id: string; fence: string }[];
    const it = { id: given?.id, fence: given?.fence };
    expect((await poll([it])).instances).toEqual([]);
    await scale(1);
    // Told to end until it says that it is at it: to be told so without end would keep both busy.
    await until('it is told', async () => (await poll([it])).end[0] === it.id);
    expect((await poll([{ ...it, ending: true }])).end).toEqual([]);
    await until('it is over', async () => {
      await poll();
      return !(await rows()).some((one) => one === '2 starting');
    });
    expect(await rows()).toContain('2 ended');
  });
});
