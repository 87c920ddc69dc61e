import { mkdtempSync, chmodSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { ChildProcess } from 'node:child_process';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { openKeys, sealHash } from '../../src/keys/keys.js';
import { openRecords, type Records } from '../../src/records/database.js';
import { listEvents, listSeals, numberEvents, recordEvents, sealedEvents, sealEvents } from '../../src/records/events.js';
import { migrate } from '../../src/records/migrate.js';
import { acknowledge, forgiveSilence, putRoute, registerAgent, routesAfter } from '../../src/records/agents.js';
import { addAttempts, claimAttempts, lockHeld } from '../../src/records/attempts.js';
import { newId } from '../../src/records/ids.js';
import { appendLog, makeLogPartitions, readLog, tailStart } from '../../src/records/logs.js';
import { addToken } from '../../src/records/people.js';
import { addProject } from '../../src/records/projects.js';
import { root, until } from './world.js';

let folder: string;
let server: ChildProcess;
let records: Records;
let other: Records;
beforeAll(async () => {
  const { prepareCluster, startCluster, openDatabase } = (await import(
    join(root, 'dist/src/cli/serve/postgres.js')
  )) as typeof import('../../src/cli/serve/postgres.js');
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-records-'));
  chmodSync(folder, 0o711);
  const cluster = prepareCluster(join(folder, 'records'), 11_000 + (process.pid % 900));
  server = startCluster(cluster, 2);
  const url = await openDatabase(cluster, 'records');
  records = openRecords({ url });
  other = openRecords({ url });
  // Two services that begin at once: one migrates, the other waits.
  await Promise.all([migrate(records), migrate(other)]);
  await migrate(records);
});
afterAll(async () => {
  await records?.close();
  await other?.close();
  server?.kill('SIGINT');
  await new Promise((resolve) => server?.once('exit', resolve));
  rmSync(folder, { recursive: true, force: true });
});

const event = (subject: string) => ({ type: 'run.ended' as const, project: null, subject, actor: 'test' });

describe('events', () => {
  it('are numbered only when no older transaction is open, in the order of the transactions', async () => {
    let release = () => {};
    const held = new Promise<void>((resolve) => {
      release = resolve;
    });
    let begun = () => {};
    const inside = new Promise<void>((resolve) => {
      begun = resolve;
    });
    const slow = records.transition('slow', async (db) => {
      await recordEvents(db, event('first to begin'));
      begun();
      await held;
    });
    await inside;
    await other.transition('fast', (db) => recordEvents(db, event('first to commit')));
    const number = () => other.transition('feed', (db) => numberEvents(db));
    expect(await number()).toBe(0);
    release();
    await slow;
    await until('both are numbered', async () => (await number()) === 2);
    const found = await listEvents(records, { limit: 10, newestFirst: false });
    expect(found.map((one) => [one.number, one.subject])).toEqual([
      ['1', 'first to begin'],
      ['2', 'first to commit'],
    ]);
  });

  it('get each number once, whoever numbers', async () => {
    await Promise.all(Array.from({ length: 30 }, (_, at) => (at % 2 ? records : other).transition('one', (db) => recordEvents(db, event(`e${at}`)))));
    await until('all are numbered', async () => {
      await Promise.all([records, other].map((one) => one.transition('feed', (db) => numberEvents(db))));
      return (await listEvents(records, { limit: 100, newestFirst: false })).length === 32;
    });
    expect((await listEvents(records, { limit: 100, newestFirst: false })).map((one) => Number(one.number))).toEqual(
      Array.from({ length: 32 }, (_, at) => at + 1),
    );
  });

  it('are sealed so that a change shows', async () => {
    const keys = openKeys(join(folder, 'keys'));
    const seal = () => records.transition('seal', (db) => sealEvents(db, sealHash, (hash) => keys.sign(hash)));
    expect(await seal()).toMatchObject({ first: '1', last: '32' });
    expect(await seal()).toBeNull();
    const check = async () => {
      let before: Buffer | null = null;
      let after = '0';
      for (const one of await listSeals(records)) {
        const hash: Buffer = sealHash(
          (await sealedEvents(records, after, one.last)).map((row) => row.text),
          before,
        );
        if (!hash.equals(one.hash) || !keys.verify(one.hash, one.signature)) return false;
        before = hash;
        after = one.last;
      }
      return true;
    };
    expect(await check()).toBe(true);
    await records.rows(`update events set actor = 'someone else' where number = 7`);
    expect(await check()).toBe(false);
    expect(openKeys(join(folder, 'keys')).verify(Buffer.from('x'), keys.sign(Buffer.from('x')))).toBe(true);
    expect(keys.decrypt(keys.encrypt('tide é'))).toBe('tide é');
  });
});

describe('work', () => {
  let project: string;
  let agent: string;
  const register = async (name: string, boot = newId()) => {
    const token = await addToken(
      records,
      { hash: Buffer.from(name), kind: 'agent', name, person: null, role: null, project: null, expires: null },
      'test',
    ).catch(async () => ({ id: (await records.one<{ id: string }>('select id from tokens where name = $1', [name]))?.id as string }));
    return (
      await registerAgent(records, { token: token.id, name, boot, class: ['runs'], slots: 2, address: '127.0.0.1', tools: {}, base: 'b', sandbox: {} }, 1_000)
    )?.id as string;
  };
  beforeAll(async () => {
    project = (await addProject(records, { name: 'pier', source: 'hosted', mainBranch: 'main', folder: '', url: null, eventSecret: null }, 'test'))
      ?.id as string;
    agent = await register('one');
  });
  const waiting = async () =>
    (await addAttempts(records, [{ kind: 'task', task: null, deployment: null, project, number: 1, needs: { class: 'runs', base: 'b' } }]))[0];

  it('is claimed once, by agents that fit, with a fence that refuses who lost it', async () => {
    const ids = await Promise.all(Array.from({ length: 12 }, waiting));
    const agents = [agent, await register('two'), await register('three'), await register('four')];
    const ask = (id: string, slots = 3) => claimAttempts(id === agent ? records : other, { id, class: ['runs'], base: 'b' }, slots, 1_000);
    const claims = (await Promise.all(agents.map((id) => ask(id)))).flat();
    expect(claims.map((one) => one.id).sort()).toEqual([...ids].sort());
    expect(new Set(claims.map((one) => one.fence)).size).toBe(12);
    await waiting();
    expect(await ask(agent)).toEqual([]);
    expect(await ask(agent, 0)).toEqual([]);
    expect(await claimAttempts(records, { id: agent, class: ['live'], base: 'b' }, 5, 1_000)).toEqual([]);
    expect(await claimAttempts(records, { id: agent, class: ['runs'], base: 'other' }, 5, 1_000)).toEqual([]);
    const one = claims[0] as (typeof claims)[number];
    await expect(lockHeld(records, one.id, one.agent_id as string, '999999')).rejects.toMatchObject({ issue: { code: 'fence_old' } });
    expect((await lockHeld(records, one.id, one.agent_id as string, one.fence as string)).id).toBe(one.id);
  });

  it('keeps its log by position: a repeat is harmless, a gap is refused', async () => {
    const [one] = await claimAttempts(records, { id: agent, class: ['runs'], base: 'b' }, 4, 1_000);
    const stream = { table: 'attempts' as const, id: one?.id as string, agent, fence: one?.fence as string };
    await makeLogPartitions(records, new Date());
    const append = (position: number, text: string) => records.transition('log', (db) => appendLog(db, stream, position, 0, Buffer.from(text)));
    expect(await append(0, 'one\ntwo\n')).toBe(8);
    expect(await append(0, 'one\ntwo\n')).toBe(8);
    expect(await append(4, 'two\nthree\n')).toBe(14);
    await expect(append(99, 'x')).rejects.toMatchObject({ issue: { code: 'offset_wrong', data: { offset: 14 } } });
    const chunks = await readLog(records, stream.id, 0, 10);
    expect(chunks.map((chunk) => [chunk.position, chunk.firstLine, chunk.bytes.toString()])).toEqual([
      [0, 0, 'one\ntwo\n'],
      [8, 2, 'three\n'],
    ]);
    expect((await readLog(records, stream.id, 4, 10))[0]).toMatchObject({ position: 4, firstLine: 1 });
    expect(await tailStart(records, stream.id, 3)).toBe(8);
  });

  it('forgives silence after a pause', async () => {
    await records.rows(`update agents set lease_until = now() - interval '1 hour'`);
    await forgiveSilence(records, 5_000);
    expect(await records.rows('select 1 from agents where lease_until < now()')).toEqual([]);
  });

  it('gives edges what is newer than they have, and tells of what is gone', async () => {
    const environment = newId();
    await records.rows(`insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, 'staging', 'standing', 'staging', 'h')`, [
      environment,
      project,
    ]);
    const first = await records.transition('route', (db) => putRoute(db, 'h', environment, { a: 1 }));
    expect(await routesAfter(records, 0)).toEqual([{ host: 'h', body: { a: 1 }, version: first }]);
    const second = await records.transition('route', (db) => putRoute(db, 'h', environment, null));
    expect(await routesAfter(records, first)).toEqual([{ host: 'h', body: null, version: second }]);
    expect(await routesAfter(records, second)).toEqual([]);
    const token = await addToken(records, { hash: Buffer.from('e'), kind: 'edge', name: 'e', person: null, role: null, project: null, expires: null }, 'test');
    expect(await acknowledge(records, token.id, 'quay', second)).toMatchObject({ acknowledged: second });
    expect(await acknowledge(records, agent, 'quay', second).catch(() => null)).toBeNull();
  });
});
