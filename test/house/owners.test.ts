import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { EventCheck } from '../../src/wire/overview.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Person } from '../../src/wire/people.js';
import type { Project } from '../../src/wire/projects.js';
import type { Run } from '../../src/wire/runs.js';
import { api, app, appDefinition, type Checkout, cli, openWorld, recordsOf, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
let first: string;
beforeAll(async () => {
  world = await openWorld();
  const secrets = '    KEY: { secret: true }\n    PLAIN: { default: x }\nenvironments:';
  const definition = appDefinition.replace(
    '  variables: { RELEASE: { from: release.number } }\nenvironments:',
    `  variables:\n    RELEASE: { from: release.number }\n${secrets}`,
  );
  ({ checkout, first } = await world.hosted('shop', { ...app('one'), 'tsunagi.yaml': definition }));
  await world.api().post('/api/projects/shop/variables', {
    environment: null,
    set: [{ name: 'KEY', value: 'a very secret key', secret: true }],
  });
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
});
afterAll(() => world?.close());

const people = async () => (await world.api().get<PageOf<Person>>('/api/people')).items;
const records = <T>(sql: string) => recordsOf<T>(world, sql);

describe('people', () => {
  let cookie: string;
  it('are added with a one-time sign-in, which is good once', async () => {
    const told = await world.cli('person', 'add', 'nagi', '--role', 'developer');
    expect([told.err, told.status]).toEqual(['', 0]);
    const code = /sign-in#(\S+)/.exec(told.out)?.[1] as string;
    const answer = await api(world.url, null).raw('POST', '/api/sign-in', { body: { code } });
    expect(answer).toMatchObject({ status: 200, body: { name: 'nagi', role: 'developer' } });
    cookie = (answer.headers.get('set-cookie') as string).split(';')[0] as string;
    expect((await api(world.url, null).raw('POST', '/api/sign-in', { body: { code } })).body.code).toBe('code_wrong');
    expect((await people()).map((one) => [one.name, one.role])).toEqual([
      ['nagi', 'developer'],
      ['owner', 'owner'],
    ]);
    expect((await world.cli('person', 'add', 'nagi', '--role', 'owner')).err).toContain(
      'There is a person named nagi already',
    );
    expect((await world.cli('person', 'add', '--role', 'king', 'x')).status).toBe(2);
  });

  it('have another role at once, in what they are signed in with and in their tokens', async () => {
    const me = async () => (await api(world.url, null).raw('GET', '/api/me', { headers: { cookie } })).body.role;
    const ask = (body: object, headers: Record<string, string>, token: string | null = null) =>
      api(world.url, token).raw('POST', '/api/tokens', {
        body,
        headers: { 'idempotency-key': crypto.randomUUID(), ...headers },
      });
    const signed = { cookie, origin: world.url };
    // One's own, never above one's role, never for agents; and no token makes another.
    const own = await ask({ name: 'x', role: 'developer', days: 1 }, signed);
    expect([own.status, own.body.role]).toEqual([201, 'developer']);
    expect((await ask({ name: 'x', role: 'releaser' }, signed)).body.code).toBe('not_allowed');
    expect((await ask({ name: 'y', kind: 'agent' }, signed)).body.code).toBe('not_allowed');
    expect((await ask({ name: 'x' }, {}, String(own.body.token))).body.code).toBe('not_allowed');
    expect((await world.cli('person', 'role', 'nagi', 'owner')).out).toContain('nagi is owner now');
    expect(await me()).toBe('owner');
    const made = await api(world.url, null).raw('POST', '/api/tokens', {
      body: { name: 'laptop', role: 'releaser' },
      headers: { cookie, origin: world.url, 'idempotency-key': crypto.randomUUID() },
    });
    const token = String(made.body.token);
    expect((await api(world.url, token).get<{ role: string }>('/api/me')).role).toBe('releaser');
    expect((await world.cli('person', 'role', 'nagi', 'viewer')).status).toBe(0);
    expect(await me()).toBe('viewer');
    expect((await api(world.url, token).get<{ role: string }>('/api/me')).role).toBe('viewer');
    expect((await world.events('type=person.role'))[0]).toMatchObject({
      subject: 'nagi',
      data: { actor: 'owner', role: 'viewer', before: 'owner' },
    });
  });

  it('always have an owner among them', async () => {
    expect((await world.cli('person', 'role', 'owner', 'viewer')).err).toContain('owner is the only owner');
    expect((await world.cli('person', 'role', 'nobody', 'viewer')).err).toContain('nobody');
  });
});

describe('a person who leaves', () => {
  it('gets no new sign-in once another is made, and is removed with sessions and tokens', async () => {
    const codeOf = (out: string) => /sign-in#(\S+)/.exec(out)?.[1] as string;
    const first = codeOf((await world.cli('person', 'add', 'mio', '--role', 'developer')).out);
    const second = codeOf((await world.cli('person', 'sign-in', 'mio')).out);
    expect(second).not.toBe(first);
    // The earlier one is revoked.
    const home = join(world.folder, 'mio');
    const as = (...args: string[]) => cli(args, { XDG_CONFIG_HOME: home });
    expect((await as('sign-in', world.url, '--code', first)).status).not.toBe(0);
    expect((await as('sign-in', world.url, '--code', second)).status).toBe(0);
    expect((await as('project', 'list')).status).toBe(0);
    const listed = await world.cli('token', 'list');
    expect(listed.out).toMatch(/mio/);
    expect((await world.cli('person', 'remove', 'mio')).err).toContain('confirm with --yes');
    expect((await world.cli('person', 'remove', 'mio', '--yes')).out).toContain('mio is removed');
    expect((await as('project', 'list')).status).not.toBe(0);
    expect((await people()).map(({ name }) => name)).not.toContain('mio');
    expect((await world.cli('token', 'list')).out).not.toMatch(/mio/);
    // The last owner stays.
    expect((await world.cli('person', 'remove', 'owner', '--yes')).status).not.toBe(0);
  });
});

describe('the key of secrets', () => {
  it('can be renewed: all is encrypted with the new one, and everything goes on', async () => {
    const keys = join(world.folder, 'house/service/keys');
    const before = readFileSync(join(keys, 'data.key'));
    const [sealed] = await records<{ sealed: Buffer }>('select sealed from variables where sealed is not null');
    const told = await world.cli('key', 'rotate');
    expect([told.err, told.out]).toEqual(['', expect.stringMatching(/\d+ secrets are encrypted with it/)]);
    expect(readFileSync(join(keys, 'data.key')).equals(before)).toBe(false);
    // The older one stays for a while: what was encrypted with it may still be written.
    expect(readdirSync(keys).filter((name) => /^data-[0-9a-f]{8}\.key$/.test(name))).toHaveLength(2);
    expect(statSync(join(keys, 'data.key')).mode & 0o777).toBe(0o600);
    const [anew] = await records<{ sealed: Buffer }>('select sealed from variables where sealed is not null');
    expect(anew?.sealed.equals(sealed?.sealed as Buffer)).toBe(false);
    const commit = await checkout.commitAndPush(app('two'), 'two');
    await world.waitLive('shop', 'staging', commit);
  });

  it('keeps no value in the records', async () => {
    const tables = await records<{ name: string }>(
      `select table_name as name from information_schema.tables where table_schema = 'public' and table_type = 'BASE TABLE'`,
    );
    for (const { name } of tables) {
      const [row] = await records<{ found: string }>(
        `select count(*) as found from "${name}" t where t::text like '%a very secret key%'`,
      );
      expect([name, row?.found]).toEqual([name, '0']);
    }
  });
});

describe('a project', () => {
  it('can be paused: what is pushed waits, and goes on when it is resumed', async () => {
    expect((await world.cli('project', 'pause', 'shop')).out).toContain('shop is paused');
    const commit = await checkout.commitAndPush(app('three'), 'three');
    const waiting = await until('it waits', async () =>
      (await world.api().get<PageOf<Run>>('/api/runs?project=shop')).items.find(
        (one) => one.commit.id === commit && one.issue?.code === 'project_paused',
      ),
    );
    expect(waiting.state).toBe('waiting');
    expect((await world.cli('project', 'resume', 'shop')).out).toContain('shop goes on');
    await world.waitLive('shop', 'staging', commit);
  });

  it('can be renamed; its addresses stay', async () => {
    await world.api().post('/api/projects', { name: 'taken', source: 'hosted' });
    expect((await world.cli('project', 'rename', 'shop', 'taken')).err).toContain(
      'There is a project named taken already',
    );
    expect((await world.cli('project', 'rename', 'shop', 'corner-shop')).out).toContain('It is corner-shop now');
    expect((await world.api().raw('GET', '/api/projects/shop')).status).toBe(404);
    expect((await world.api().get<Project>('/api/projects/corner-shop')).endpoint).toContain('/git/corner-shop');
    expect(JSON.parse((await world.visit('shop-staging.localhost', '/api')).text).text).toBe('three');
  });

  it('is removed when that is said, with all that it shows first', async () => {
    const asked = await world.cli('project', 'remove', 'corner-shop');
    expect(asked.status).toBe(2);
    expect(asked.out).toMatch(
      /Removing corner-shop also removes: \d+ environments \(.*shop-staging\.localhost.*\) · \d+ releases · \d+ runs · 1 variable\./,
    );
    expect((await world.visit('shop-staging.localhost', '/api')).status).toBe(200);
    const done = await world.cli('project', 'remove', 'corner-shop', '--yes');
    expect([done.err, done.status]).toEqual(['', 0]);
    await until(
      'its address is gone',
      async () => (await world.visit('shop-staging.localhost', '/api')).status === 404,
    );
    expect((await world.cli('project', 'list')).out).not.toContain('shop');
    expect((await world.cli('board')).out).not.toContain('shop');
    expect(await records('select 1 from variables where sealed is not null')).toEqual([]);
    await expect(checkout.push()).rejects.toThrow(/not found|404/);
    expect((await world.events('type=project.removed'))[0]).toMatchObject({
      subject: 'corner-shop',
      data: { actor: 'owner' },
    });
    await world.api().post('/api/projects', { name: 'shop', source: 'hosted' });
  });
});

describe('what happened', () => {
  it('can be checked against its seals', async () => {
    const told = await world.cli('events', '--check');
    expect([told.err, told.status]).toEqual(['', 0]);
    expect(told.out).toMatch(/\d+ events are as they were sealed/);
    expect(await world.api().get<EventCheck>('/api/events/check')).toMatchObject({ wrong: null });
  });
});
