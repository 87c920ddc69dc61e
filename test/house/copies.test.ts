/** Reviews begin with copies of data in use: whole, fit for others, never in the way of what they are copied from. */
import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import type { AddedToken } from '../../src/wire/people.js';
import type { ResourceDetail, SnapshotView } from '../../src/wire/environments/resources.js';
import { snapshotComing } from '../../src/core/states.js';
import { administer, passengers, passengersDefinition, scrub } from './passengers.js';
import { api, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const staging = 'ferry-staging.localhost';
const secret = 'Hoshino Akari';
const ask = async (host: string, sql = '') => (await world.visit(host, '/', { method: 'POST', body: sql })).text;
const resource = (name: string) =>
  world.api().get<ResourceDetail>(`/api/projects/ferry/environments/${name}/resources/timetable`);
const snapshots = async () => (await resource('staging')).snapshots;
const branchName = (branch: string) => `on-${branch}`;
const hostOf = (branch: string) => `on-${branch}-ferry.review.localhost`;
/** A branch with a commit of its own, and its review, live. */
async function review(branch: string, change: Record<string, string> = {}): Promise<ResourceDetail> {
  await checkout.git('checkout', '-q', 'main');
  await checkout.git('checkout', '-qb', branch);
  const commit = await checkout.commit({ 'text.txt': branch, ...change }, branch);
  await checkout.push(branch);
  await world.api().post('/api/projects/ferry/reviews', { branch });
  await world.waitLive('ferry', branchName(branch), commit);
  return resource(branchName(branch));
}
async function main(change: Record<string, string>, title: string): Promise<void> {
  await checkout.git('checkout', '-q', 'main');
  const commit = await checkout.commit(change, title);
  await checkout.push();
  await world.waitLive('ferry', 'staging', commit);
}
const permit = (permitted = true) =>
  world.cli('environment', 'copies', 'ferry/staging', permitted ? '--permit' : '--forbid');
const databases = async () =>
  (
    await administer<{ name: string }>(
      world,
      'review',
      `select datname as name from pg_database where datname ~ '^[dnxt]_'`,
    )
  ).map((one) => one.name);

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('ferry', {
    ...passengers(),
    'tsunagi.yaml': passengersDefinition(),
  }));
  await checkout.push();
  await world.waitLive('ferry', 'staging', first);
  await ask(
    staging,
    `insert into passengers (name) select '${secret} ' || g from generate_series(1, 300) g;
     delete from passengers where id > 290; update passengers set cabin = 'Deck ' || id;
     insert into letters (body) select lo_from_bytea(0, convert_to('Dear ${secret}', 'UTF8'));
     refresh materialized view names; analyze`,
  );
});
afterAll(async () => {
  await world?.close();
});

describe('data that is copied', () => {
  it('needs an owner who has permitted it: until then reviews begin empty, and say why', async () => {
    const { origin } = await review('early');
    expect(origin).toMatchObject({ copy: 'staging', of: null });
    expect(origin?.why?.says).toBe('No owner has permitted copies of ferry/staging.');
    expect(await ask(hostOf('early'))).toBe('');
    expect((await resource('staging')).snapshots).toEqual([]);
    const token = await world.api().post<AddedToken>('/api/tokens', { name: 'releaser', role: 'releaser' });
    const refused = await api(world.url, token.token).raw('POST', '/api/projects/ferry/environments/staging/copies', {
      body: { permit: true },
    });
    expect(refused.status).toBe(403);
    const shown = await world.cli('environment', 'copies', 'ferry/staging');
    expect(shown.out).toContain('No owner has permitted copies of ferry/staging');
    expect(shown.out).toContain('scrub, with the files of api: bash scrub.sh');
    expect((await world.cli('environment', 'copies', 'ferry/staging', '--permit')).out).toContain(
      'Reviews may begin with copies of ferry/staging.',
    );
    expect((await world.cli('environment', 'copies', `ferry/${branchName('early')}`, '--permit')).err).toContain(
      'is a review',
    );
  });

  it('is whole, and fit for others: no name of before is in it, wherever one looks', async () => {
    const { origin, issue } = await review('winter');
    expect([issue, origin?.why, typeof origin?.of]).toEqual([null, null, 'string']);
    const names = (await ask(hostOf('winter'))).split('\n');
    expect([names.length, names[0]]).toEqual([290, 'Passenger 1']);
    expect(await ask(hostOf('winter'), 'select count(*), min(name) from names')).toBe('290|Passenger 1');
    expect(await ask(hostOf('winter'), 'select count(*) from letters')).toBe('0');
    // Sequences go on behind what was copied.
    expect(await ask(hostOf('winter'), `insert into passengers (name) values ('New') returning id`)).toMatch(/^301/);
    const [database] = (await ask(hostOf('winter'), 'select current_database()')).split('\n');
    const seen = await administer<{ text: string }>(
      world,
      'review',
      `select coalesce(string_agg(coalesce(most_common_vals::text, '') || coalesce(histogram_bounds::text, ''), ''), '') as text from pg_stats where schemaname = 'public'`,
      database,
    );
    expect(seen[0]?.text).toContain('Passenger');
    expect(seen[0]?.text).not.toContain(secret);
    const files = await administer<{ path: string }>(
      world,
      'review',
      `select setting || '/base/' || d.oid as path from pg_settings, pg_database d where name = 'data_directory' and d.datname ~ '^[dnx]_'`,
    );
    expect(files.length).toBeGreaterThan(1);
    await administer(world, 'review', 'checkpoint');
    const holding = files.flatMap(({ path }) =>
      readdirSync(path)
        .map((file) => join(path, file))
        .filter((file) => statSync(file).isFile() && readFileSync(file).includes(secret)),
    );
    expect(holding).toEqual([]);
    expect((await ask(staging)).split('\n')[0]).toBe(`${secret} 1`);
  });

  it('is made once: the next review gets the same copy, and the copy knows them', async () => {
    const { origin } = await review('spring');
    const [ready, ...others] = await snapshots();
    expect(others).toEqual([]);
    expect(ready).toMatchObject({ state: 'ready', by: 'engine', reviews: 2, of: origin?.of });
    expect(ready?.scrub?.run).toBe('bash scrub.sh');
    const shown = await world.cli('resource', 'show', 'ferry/staging', 'timetable');
    expect(shown.out).toMatch(/COPY\s+STATE\s+OF\s+SIZE\s+SCRUBBED BY\s+REVIEWS\n\S+\s+ready\s+\S.*d\d+\s+2/);
    expect((await world.cli('resource', 'show', `ferry/${branchName('spring')}`, 'timetable')).out).toMatch(
      /Its data began as a copy of staging, as that was/,
    );
  });

  it('keeps reviews, their source and the copies apart: tried from inside', async () => {
    const [winter, spring] = await Promise.all(
      ['winter', 'spring'].map(async (branch) => new URL((await world.visit(hostOf(branch), '/address')).text)),
    );
    const [copy] = await snapshots();
    const reached = [spring?.pathname.slice(1) ?? '', `d_${copy?.id.replaceAll('-', '')}`, 'postgres', 'template1'];
    for (const database of reached) {
      const client = new pg.Client({
        host: '127.0.0.1',
        port: world.house.ports.review,
        user: winter?.username,
        password: winter?.password,
        database,
      });
      await expect(client.connect()).rejects.toThrow(/permission denied|not currently accepting/);
    }
    const away = new pg.Client({
      host: '127.0.0.1',
      port: world.house.ports.standing,
      user: winter?.username,
      password: winter?.password,
      database: 'postgres',
    });
    await expect(away.connect()).rejects.toThrow(/authentication failed/);
    // What the two made is theirs: neither owner may act as the other's, or as the copy's.
    expect(await ask(hostOf('winter'), `set role o_${copy?.id.replaceAll('-', '')}`)).toContain('permission denied');
    expect(await ask(hostOf('winter'), 'alter table passengers add column berth int')).toBe('ALTER TABLE');
    expect(await ask(hostOf('spring'), 'select berth from passengers limit 1')).toContain('does not exist');
  });

  it('shows what scrub has printed to releasers alone', async () => {
    const [copy] = await snapshots();
    const log = `/api/attempts/${copy?.scrub?.attempt}/log`;
    const own = await world.cli('resource', 'snapshot', 'ferry/staging', 'timetable', '--log');
    expect(own.out).toContain('scrubs timetable of staging');
    expect(own.out).toContain(`found ${secret} 1`);
    const token = await world.api().post<AddedToken>('/api/tokens', { name: 'developer', role: 'developer' });
    for (const path of [log, `${log}/text`, `${log}/search?text=found`])
      expect((await api(world.url, token.token).raw('GET', path)).status).toBe(403);
    const asked = await api(world.url, token.token).raw(
      'POST',
      '/api/projects/ferry/environments/staging/resources/timetable/snapshots',
    );
    expect(asked.status).toBe(403);
  });

  it('is made anew by hand, and the one before goes', async () => {
    const [before] = await snapshots();
    await ask(staging, `insert into passengers (name) values ('${secret} again')`);
    const made = await world.cli('resource', 'snapshot', 'ferry/staging', 'timetable');
    expect(made).toMatchObject({ status: 0, err: '' });
    expect(made.out).toMatch(/^A copy of timetable of ferry\/staging, .*, is ready for reviews\.$/m);
    await until('the one before is gone', async () => {
      const now = await snapshots();
      return now.length === 1 && now[0]?.id !== before?.id;
    });
    expect(await databases()).not.toContain(`d_${before?.id.replaceAll('-', '')}`);
    // Whoever has the data of before keeps it; who begins anew gets the newer.
    const was = (await resource(branchName('spring'))).origin?.of;
    await world.cli('review', 'reset', `ferry/${branchName('spring')}`, '--yes');
    await until('it began anew', async () => {
      const now = await resource(branchName('spring')).catch(() => null);
      return now?.state === 'ready' && now.origin?.of && now.origin.of !== was;
    });
    await until('it answers', async () => (await ask(hostOf('spring'))).split('\n').length === 291);
  });
});

describe('a scrub that fails', () => {
  it('closes the data, not the review; the source and what was copied before are as they were', async () => {
    await main(
      { 'scrub.sh': `${scrub}echo "no rule for cabins"; echo "Password of ${secret}:"; exit 4\n` },
      'A scrub that fails',
    );
    const failed = await world.cli('resource', 'snapshot', 'ferry/staging', 'timetable');
    expect([failed.status, failed.out]).toEqual([1, expect.stringContaining('scrub failed: ')]);
    // What it prints is of data that is not fit for others yet: the reason quotes nothing of it.
    expect(JSON.stringify(await resource('staging'))).not.toContain(secret);
    expect(failed.out + failed.err).not.toContain(secret);
    const list = await snapshots();
    expect(list.map((one) => one.state)).toEqual(['failed', 'ready']);
    expect(await databases()).not.toContain(`d_${list[0]?.id.replaceAll('-', '')}`);
    // What is fresh enough is used as before.
    const { origin } = await review('summer');
    expect([origin?.of, origin?.why]).toEqual([list[1]?.of, null]);
    const events = await world.events('project=ferry&type=snapshot.failed');
    expect(events).toHaveLength(1);
    expect(JSON.stringify(await world.events('project=ferry'))).not.toContain(secret);
  });

  it('begins empty, in words, where there is no copy of before', async () => {
    await permit(false);
    await until('no copy is left', async () => (await snapshots()).every((one) => one.state === 'failed'));
    await permit();
    const { origin, state } = await review('autumn');
    expect(state).toBe('ready');
    expect(origin?.of).toBeNull();
    expect(origin?.why?.says).toMatch(/^scrub failed: /);
    expect(await ask(hostOf('autumn'))).toBe('');
    await main({ 'scrub.sh': scrub }, 'The scrub is mended');
    await world.cli('review', 'reset', `ferry/${branchName('autumn')}`, '--yes');
    await until('it has the data', async () => (await ask(hostOf('autumn'))).startsWith('Passenger 1\n'));
  });

  it('is another scrub than was permitted: an owner looks again', async () => {
    await main({ 'tsunagi.yaml': passengersDefinition({ run: '"true"' }) }, 'A scrub that does nothing');
    await until('the copies are gone', async () => (await snapshots()).every((one) => one.state === 'failed'));
    const { origin } = await review('storm');
    expect(origin?.why?.says).toContain('is another one than an owner has permitted');
    expect(await ask(hostOf('storm'))).toBe('');
    expect((await world.cli('resource', 'snapshot', 'ferry/staging', 'timetable')).err).toContain('can’t be copied');
    await main({ 'tsunagi.yaml': passengersDefinition() }, 'The scrub of before');
  });
});

describe('others', () => {
  it('a source that changes its tables is not held up by a copy', async () => {
    await ask(
      staging,
      `insert into passengers (name) select md5(g::text) || repeat('x', 200) from generate_series(1, 200000) g`,
    );
    const asked = world.cli('resource', 'snapshot', 'ferry/staging', 'timetable');
    await until('it is being copied', async () => (await snapshots()).some((one) => one.state === 'copying'));
    const began = Date.now();
    await main(
      {
        'prepare.sh': `${passengers()['prepare.sh']}psql "$DATABASE_URL" -qc "alter table passengers add column deck int"\n`,
      },
      'Another table',
    );
    expect(Date.now() - began).toBeLessThan(60_000);
    expect((await asked).status).toBe(0);
    expect(await ask(staging, 'select count(deck) from passengers')).toBe('0');
  });

  it('closing during a copy leaves nothing; the copy is there for the next', async () => {
    await permit(false);
    await until('no copy is left', async () => (await snapshots()).every((one) => one.state === 'failed'));
    await permit();
    await checkout.git('checkout', '-q', 'main');
    await checkout.git('checkout', '-qb', 'short');
    await checkout.commit({ 'text.txt': 'short' }, 'Short');
    await checkout.push('short');
    await world.api().post('/api/projects/ferry/reviews', { branch: 'short' });
    await until('it waits for its data', async () => {
      const one = await resource(branchName('short')).catch(() => null);
      return one !== null && one.state !== 'ready' && (await snapshots()).some(coming);
    });
    await world.cli('review', 'close', `ferry/${branchName('short')}`);
    await until('it is closed', async () => (await world.environment('ferry', branchName('short'))).state === 'closed');
    await until('the copy is ready', async () => {
      const all = await snapshots();
      if (all.some((one) => one.state === 'ready')) return true;
      throw new Error(JSON.stringify(all.slice(0, 2)));
    });
  });

  it('is not begun where the disk would be full of it, in words; what was copied before stays', async () => {
    await world.restart({ TSUNAGI_KEEP: JSON.stringify({ free: 2 ** 52 }) });
    const refused = await world.cli('resource', 'snapshot', 'ferry/staging', 'timetable');
    expect(refused.status).toBe(1);
    expect(`${refused.out}${refused.err}`).toMatch(/^A copy needs .+, and the database server of reviews has 0 B left/);
    expect((await snapshots()).find((one) => one.state === 'failed')?.issue?.code).toBe('copy_disk');
    expect((await snapshots()).some((one) => one.state === 'ready')).toBe(true);
  });
});

const coming = (one: SnapshotView) => snapshotComing(one.state);
