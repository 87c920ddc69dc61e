/** The service and its agent are killed at every step of a copy: it is had all the same, once, and nothing is left over. */
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { ResourceDetail } from '../../src/wire/environments/resources.js';
import { administer, passengers, passengersDefinition, scrub } from './passengers.js';
import { inTurn } from './turn.js';
import { type Checkout, noteRoom, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('ferry', { ...passengers(), 'tsunagi.yaml': passengersDefinition() }));
  await checkout.push();
  await world.waitLive('ferry', 'staging', first);
  await world.visit('ferry-staging.localhost', '/', {
    method: 'POST',
    body: `insert into passengers (name) select 'Hoshino ' || g from generate_series(1, 100) g`,
  });
  await world.cli('environment', 'copies', 'ferry/staging', '--permit');
  await checkout.git('checkout', '-qb', 'winter');
  await checkout.commit({ 'text.txt': 'winter' }, 'Winter');
  await checkout.push('winter');
});
afterAll(() => world?.close());

const path = '/api/projects/ferry/environments';
const resource = (name: string) =>
  world
    .api()
    .get<ResourceDetail>(`${path}/${name}/resources/timetable`)
    .catch(() => null);
const there = async () =>
  (
    await administer<{ name: string }>(
      world,
      'review',
      `select datname as name from pg_database where datname ~ '^[dnxt]_' union select rolname from pg_roles where rolname ~ '^[lw]_' order by 1`,
    )
  ).map((one) => one.name);
/** Asks until it is heard: whoever is asked may be dead. */
const post = (what: string, at: string, body?: unknown) =>
  until(what, async () => {
    await world.api().post(at, body);
    return true;
  });
const hasData = () =>
  until('the review has the data, fit for others', async () => {
    const { text } = await world.visit('on-winter-ferry.review.localhost', '/');
    return text.startsWith('Passenger 1\n') && text.split('\n').length === 100;
  });
const isClosed = () =>
  until('it is closed', async () => (await world.environment('ferry', 'on-winter')).state === 'closed');

const points = [
  'resource.origin',
  'snapshot.copy',
  'snapshot.scrub',
  'attempt.ended',
  'snapshot.settle',
  'resource.make',
];

describe('a copy, killed', () => {
  it.each(inTurn(points.flatMap((point) => (['before', 'after'] as const).map((side) => [side, point] as const))))(
    'the service, %s the commit, at %s',
    async (side, point) => {
      const noted = noteRoom(world, 'service');
      const file = join(world.folder, 'crash-at');
      try {
        writeFileSync(file, `${point}:${side} ${noted.path}`);
        await post('it is opened', '/api/projects/ferry/reviews', { branch: 'winter' });
        await hasData();
        expect(readFileSync(file, 'utf8').trim()).toBe('');
        const source = await until('its source is looked at', () => resource('staging'));
        expect(source.snapshots.filter((one) => one.state === 'ready')).toHaveLength(1);
        expect((await resource('on-winter'))?.origin).toMatchObject({ copy: 'staging', why: null });
      } finally {
        noted.stop();
        writeFileSync(file, '');
      }
      await post('it closes', `${path}/on-winter/close`);
      await isClosed();
      await post('no copies are permitted', `${path}/staging/copies`, { permit: false });
      await until('nothing is left', async () => (await there()).length === 0);
      await post('they are permitted', `${path}/staging/copies`, { permit: true });
    },
  );

  it('the service, before and after the commit, when it goes', async () => {
    for (const side of ['before', 'after']) {
      await post('a copy is asked for', `${path}/staging/resources/timetable/snapshots`);
      await until('it is ready', async () => (await resource('staging'))?.snapshots[0]?.state === 'ready');
      const noted = noteRoom(world, 'service');
      const file = join(world.folder, 'crash-at');
      writeFileSync(file, `snapshot.remove:${side} ${noted.path}`);
      await post('no copies are permitted', `${path}/staging/copies`, { permit: false });
      await until('it was killed', async () => readFileSync(file, 'utf8').trim() === '').finally(noted.stop);
      await until('nothing is left', async () => (await there()).length === 0);
      await until('the service is up', async () => existsSync(`/proc/${world.house.rooms.service.pid() ?? 'none'}`));
      await post('they are permitted', `${path}/staging/copies`, { permit: true });
    }
  });

  it('the agent, while it scrubs: the copy is made anew, for nobody knows what was left', async () => {
    await checkout.git('checkout', '-q', 'main');
    const slow = await checkout.commit({ 'scrub.sh': `${scrub}sleep 3\n` }, 'A slow scrub');
    await checkout.push();
    await world.waitLive('ferry', 'staging', slow);
    await post('a copy is asked for', `${path}/staging/resources/timetable/snapshots`);
    await until('it is scrubbed', async () => {
      const [one] = (await resource('staging'))?.snapshots ?? [];
      return one?.state === 'scrubbing' && one.scrub?.attempt;
    });
    const [{ scrub: first } = { scrub: null }] = (await resource('staging'))?.snapshots ?? [];
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    const ready = await until('it is ready all the same', async () => {
      const [one] = (await resource('staging'))?.snapshots ?? [];
      return one?.state === 'ready' ? one : null;
    });
    expect(ready.scrub?.attempt).not.toBe(first?.attempt);
    await world.waitLive('ferry', 'staging', slow);
  });
});
