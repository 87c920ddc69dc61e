/** Every recorded step of a volume, at which the service is killed; its agent, killed in the midst; and strangers at an agent's doors. */
import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import type { BackupView, Resource, ResourceDetail } from '../../src/wire/environments/resources.js';
import { album, albumDefinition } from './album.js';
import { inTurn } from './turn.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let count = 0;
beforeAll(async () => {
  world = await openWorld({ timing: { lease: 5_000 } });
});
afterAll(() => world?.close());

const crash = (...points: string[]) => writeFileSync(join(world.folder, 'crash-at'), points.join('\n'));
const met = () => until('each was met', async () => readFileSync(join(world.folder, 'crash-at'), 'utf8').trim() === '');
const up = () => until('the service is back', async () => (await fetch(`${world.url}/api/health`)).ok);
const here = () => readdirSync(join(world.folder, 'house/agent/volumes'));
const records = async <T extends object>(sql: string, values: unknown[] = []): Promise<T[]> => {
  const client = new pg.Client(world.house.database);
  await client.connect();
  const { rows } = await client.query(sql, values);
  await client.end();
  return rows as T[];
};
/** Files of all images and folders of a volume that the agent has. */
const parts = (id: string) =>
  readdirSync(join(world.folder, 'house/agent/volumes', id))
    .filter((name) => name !== 'state.json')
    .sort();

/** A project of its own, pushed and live; how its files are read and written. */
async function begin(points: string[] = []) {
  const name = `album-${++count}`;
  const { checkout, first } = await world.hosted(name, { ...album(name), 'tsunagi.yaml': albumDefinition() });
  const host = `${name}-staging.localhost`;
  const path = `/api/projects/${name}/environments/staging/resources/uploads`;
  const one = {
    name,
    checkout,
    path,
    read: async (file: string) => (await world.visit(host, `/api/files/${file}`)).text,
    write: (file: string, text: string) =>
      until(`${file} is written`, async () => {
        const { status } = await world.visit(host, `/api/files/${file}/${text}`, { method: 'POST' });
        return status === 200;
      }),
    detail: () => world.api().get<ResourceDetail>(path),
    ask: async <T>(to: string, body: unknown = {}): Promise<T> => {
      const key = crypto.randomUUID();
      return until(to, () => world.api().post<T>(`${path}/${to}`, body, key));
    },
    kept: (number: number) =>
      until(`backup ${number}`, async () =>
        (await one.detail()).backupList.some((backup) => backup.number === number && backup.state === 'kept'),
      ),
    restored: () =>
      until('it is restored', async () => {
        const now = await one.detail();
        return now.state === 'ready' && !now.restoring;
      }),
    id: async () =>
      (
        await records<{ id: string }>(
          `select v.id from volumes v join resources r on r.id = v.resource_id join environments e on e.id = r.environment_id
             join projects p on p.id = e.project_id where p.name = $1 and v.state = 'there'`,
          [name],
        )
      )[0]?.id as string,
    remove: () =>
      until('the removal is answered', async () => {
        const { status } = await world.api().raw('DELETE', `/api/projects/${name}`, {
          headers: { 'idempotency-key': `remove ${name}` },
        });
        return status < 300;
      }),
  };
  if (points.length) crash(...points);
  await push(checkout);
  await world.waitLive(name, 'staging', first);
  return one;
}
const push = (checkout: Checkout) =>
  until('the push is answered', async () => {
    await checkout.push();
    return true;
  });

describe('a service killed', () => {
  it.each(inTurn(['volume.making:after', 'chore.asked:after', 'volume.there:before', 'resource.make:before'], 2))(
    'at %s makes a volume once',
    async (point) => {
      const before = here().length;
      const one = await begin([point]);
      await met();
      await up();
      await one.write('a', 'kept');
      expect(await until('it is read', () => one.read('a'))).toBe('kept');
      expect(here()).toHaveLength(before + 1);
      expect(parts(await one.id()).map((name) => name.replace('.img', ''))[0]).toBe('1');
      await one.remove();
      await until('it is gone', async () => here().length === before);
    },
  );

  it.each(
    inTurn([
      'chore.kept:after',
      'chore.told:before',
      'backup.written:before',
      'volume.quiet:after',
      'resource.restore:before',
    ]),
  )('at %s loses no backup, and brings one back once', async (point) => {
    const one = await begin();
    await one.write('a', 'first');
    const ofBackup = !/quiet|restore/.test(point);
    if (ofBackup) crash(point);
    const { number } = await one.ask<BackupView>('backups');
    await one.kept(number);
    if (ofBackup) await met();
    await up();
    await one.write('a', 'second');
    if (!ofBackup) crash(point);
    await one.ask<Resource>('restore', { backup: number, first: false });
    await one.restored();
    if (!ofBackup) await met();
    await up();
    await until('the first is back', async () => (await one.read('a')) === 'first');
    // Of one wish there is one generation, and nothing is left closed.
    const id = await one.id();
    await until(
      'one generation is there',
      async () => new Set(parts(id).map((name) => name.replace('.img', ''))).size === 1,
    );
    expect(parts(id)[0]?.replace('.img', '')).toBe('2');
    expect(await records(`select 1 from volumes where closed and state = 'there'`)).toEqual([]);
    await one.write('a', 'third');
    await one.remove();
  });

  it.each(['volume.unwanted:after', 'chore.told:before'])('at %s leaves nothing of one that goes', async (point) => {
    const before = here().length;
    const one = await begin();
    crash(point);
    await one.remove();
    await met();
    await up();
    await until('its files are gone', async () => here().length === before);
    await until(
      'its row is over',
      async () => (await records(`select 1 from volumes where state = 'removing'`)).length === 0,
    );
  });
});

describe('an agent killed', () => {
  const kill = () => process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');

  it('while it makes, copies and brings back is waited for, and nothing is half', async () => {
    const name = `album-${count + 1}`;
    const begun = begin();
    await until(
      'its volume is asked for',
      async () =>
        (
          await records(
            'select 1 from volumes v join resources r on r.id = v.resource_id join environments e on e.id = r.environment_id join projects p on p.id = e.project_id where p.name = $1',
            [name],
          )
        ).length > 0,
    );
    kill();
    const one = await begun;
    await one.write('a', 'first');
    // Enough that it takes a moment.
    await until(
      'it is filled',
      async () => (await world.visit(`${name}-staging.localhost`, '/api/spill/15')).status === 200,
    );
    const { number } = await one.ask<BackupView>('backups');
    await until(
      'an agent has it',
      async () => (await records(`select 1 from chores where state = 'given'`)).length > 0,
    );
    kill();
    await one.kept(number);
    await one.write('a', 'second');
    await one.ask<Resource>('restore', { backup: number, first: false });
    await until(
      'an agent has it',
      async () =>
        (await records(`select 1 from chores where act = 'restore' and state in ('given', 'done')`)).length > 0,
    );
    kill();
    await one.restored();
    await until('the first is back', async () => (await one.read('a')) === 'first');
    const [sum] = await records<{ bytes: string }>('select bytes from backups order by created_at desc limit 1');
    expect(Number(sum?.bytes)).toBeGreaterThan(15 * 1024 ** 2);
    expect(new Set(parts(await one.id()).map((part) => part.replace('.img', ''))).size).toBe(1);
  });

  it('leaves programs with their files, and mounts them for the next ones', async () => {
    const one = await begin();
    await one.write('a', 'kept');
    kill();
    // The server goes on meanwhile.
    expect(await one.read('a')).toBe('kept');
    await one.write('b', 'meanwhile');
    await until('the agent is back', async () =>
      (await world.api().get<{ items: { alive: boolean }[] }>('/api/agents')).items.every((agent) => agent.alive),
    );
    expect((await world.cli('restart', `${one.name}/staging`)).status).toBe(0);
    expect([await one.read('a'), await one.read('b')]).toEqual(['kept', 'meanwhile']);
    const id = await one.id();
    const devices = execFileSync('losetup', ['--list', '--noheadings', '--output', 'BACK-FILE'], { encoding: 'utf8' });
    if ((await one.detail()).volume?.hold === 'filesystem')
      expect(devices.split('\n').filter((line) => line.includes(id))).toHaveLength(1);
  });

  it('is followed by a house that was ended and started, with all files', async () => {
    const one = await begin();
    await one.write('a', 'kept');
    await world.restart();
    await until('it is served again', async () => (await one.read('a')) === 'kept');
  });
});

describe('a stranger', () => {
  it('has no more reserved than strangers may have', async () => {
    const one = await begin();
    await records(
      `update resources r set place = 'untrusted' from environments e join projects p on p.id = e.project_id where e.id = r.environment_id and p.name = $1`,
      [one.name],
    );
    await one.checkout.commitAndPush({ 'tsunagi.yaml': albumDefinition({ size: '300M' }) }, 'Much');
    const failed = await until('it is refused', async () => {
      const [last] = (await world.environment(one.name, 'staging')).history;
      return last?.state === 'failed' ? last : null;
    });
    expect(failed.failure?.says).toContain('hold 300 MiB together; those of untrusted pull requests may hold 256 MiB');
  });
});

describe('a stranger at the doors of agents', () => {
  it('gets no bytes, and leaves none', async () => {
    const one = await begin();
    const { number } = await one.ask<BackupView>('backups');
    await one.kept(number);
    const [chore] = await records<{ id: string; fence: string }>(
      `select id, fence::text as fence from chores where act = 'back up' and state = 'done' order by created_at desc limit 1`,
    );
    const token = async (kind: 'agent' | 'edge', name: string) =>
      (
        await world.api().post<{ token: string }>('/api/tokens', {
          name,
          kind,
          ...(kind === 'agent' ? { takes: ['live'], address: '127.0.0.1', ports: { from: 33_000, to: 33_100 } } : {}),
        })
      ).token;
    const ask = async (bearer: string, method: string, to: string, body?: string) => {
      const answer = await fetch(`${world.url}/api/agent/chores/${chore?.id}/${to}`, {
        method,
        headers: {
          authorization: `Bearer ${bearer}`,
          ...(body === undefined
            ? {}
            : { 'content-type': to === 'report' ? 'application/json' : 'application/octet-stream' }),
        },
        ...(body === undefined ? {} : { body }),
      });
      return [answer.status, ((await answer.json().catch(() => ({}))) as { code?: string }).code];
    };
    const other = await token('agent', 'stranger');
    const report = JSON.stringify({ fence: chore?.fence, found: null, issue: null });
    for (const bearer of [world.house.token, await token('edge', 'stranger-edge')]) {
      expect((await ask(bearer, 'GET', `bytes?fence=${chore?.fence}`))[0]).toBe(403);
      expect((await ask(bearer, 'PUT', `bytes?fence=${chore?.fence}`, 'x'))[0]).toBe(403);
      expect((await ask(bearer, 'POST', 'report', report))[0]).toBe(403);
    }
    // An agent that never registered holds nothing; nor does one that did, of what is another's, or is over.
    for (const [method, to, body] of [
      ['GET', `bytes?fence=${chore?.fence}`],
      ['PUT', `bytes?fence=${chore?.fence}`, 'x'],
      ['POST', 'report', report],
    ] as const) {
      const [status, said] = await ask(other, method, to, body);
      expect([status, ['fence_old', 'lease_lost'].includes(String(said))]).toEqual([409, true]);
    }
    expect((await ask(other, 'GET', 'bytes?fence=x'))[0]).toBe(400);
    expect((await one.detail()).backupList[0]).toMatchObject({ number, state: 'kept' });
  });

  it('sees no path of the machine in what is answered', async () => {
    const { items } = await world.api().get<{ items: { name: string }[] }>('/api/projects');
    for (const { name } of items.slice(0, 3)) {
      const shown = JSON.stringify(
        await world.api().raw('GET', `/api/projects/${name}/environments/staging/resources`),
      );
      expect(shown).not.toContain(world.folder);
    }
  });
});
