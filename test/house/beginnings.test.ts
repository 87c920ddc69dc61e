/** Beginnings: each kind is live in one step, passes its own tests, and can be promoted; through a service that dies. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { execFileSync } from 'node:child_process';
import { request } from 'node:http';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { beginningKinds } from '../../src/core/states.js';
import type { AddedProject } from '../../src/wire/projects.js';
import type { AddedToken } from '../../src/wire/people.js';
import type { Run } from '../../src/wire/runs.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Promotion } from '../../src/wire/releases.js';
import { Checkout, openWorld, root, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  world = await openWorld();
});
afterAll(() => world?.close());

const ask = (name: string, path: string, body?: string) => {
  const host = `${name}-staging.localhost`;
  return body === undefined ? world.visit(host, path) : send(host, path, body);
};
const send = (host: string, path: string, body: string) =>
  new Promise<{ status: number; text: string }>((resolve, reject) => {
    const call = request(
      {
        host: '127.0.0.1',
        port: world.house.edgePort,
        path,
        method: 'POST',
        headers: { host, 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) },
      },
      (answer) => {
        let text = '';
        answer.on('data', (bytes: Buffer) => (text += bytes));
        answer.on('end', () => resolve({ status: answer.statusCode ?? 0, text }));
      },
    );
    call.on('error', reject);
    call.end(body);
  });

/** What each does when it is live. */
const works: Record<(typeof beginningKinds)[number], (name: string) => Promise<void>> = {
  'node-api': async (name) => {
    expect(await ask(name, '/notes', '{"text":"a boat"}')).toMatchObject({ status: 201 });
    expect(JSON.parse((await ask(name, '/notes')).text)).toMatchObject([{ text: 'a boat' }]);
  },
  'python-api': async (name) => {
    expect(await ask(name, '/notes', '{"text":"a boat"}')).toMatchObject({ status: 201 });
    expect((await ask(name, '/nothing')).status).toBe(404);
  },
  'java-api': async (name) => {
    expect(await ask(name, '/notes', 'a "boat"')).toMatchObject({ status: 201 });
    expect(JSON.parse((await ask(name, '/notes')).text)).toEqual(['a "boat"']);
  },
  site: async (name) => {
    expect((await ask(name, '/')).text).toContain(`<h1>${name}</h1>`);
    expect(await ask(name, '/nothing')).toMatchObject({
      status: 404,
      text: expect.stringContaining('There is nothing here'),
    });
  },
  'site-and-api': async (name) => {
    expect((await ask(name, '/')).text).toContain(`<h1>${name}</h1>`);
    expect(JSON.parse((await ask(name, '/settings.json')).text)).toEqual({ PUBLIC_RELEASE: 'r1' });
    expect(await ask(name, '/api/notes', '{"text":"a boat"}')).toMatchObject({ status: 201 });
  },
  worker: async (name) => {
    await until('it has done something', async () =>
      (await world.cli('logs', `${name}/staging`)).out.includes('did 20'),
    );
  },
};

describe('a project', () => {
  it.each(beginningKinds)('begins from %s: live in one step, with its tests', async (kind) => {
    const name = `new-${kind}`;
    const { out, err, status } = await world.cli('project', 'new', name, '--from', kind);
    expect([err, status]).toEqual(['', 0]);
    expect(out).toContain(`${name} begins from ${kind}.`);
    expect(out).toMatch(new RegExp(`live +http://${name}-staging\\.localhost:\\d+`));
    await works[kind](name);
    const { items } = await world.api().get<PageOf<Run>>(`/api/runs?project=${name}&limit=5`);
    expect(items).toMatchObject([{ state: 'passed', cause: 'push' }]);
    const commit = items[0]?.commit;
    expect(commit).toMatchObject({ title: 'Begin' });
  });

  it('is a repository as any other: cloned, changed and pushed', async () => {
    const { token } = await world.api().post<AddedToken>('/api/tokens', { name: 'push', role: 'developer' });
    const folder = join(world.folder, 'clone');
    const git = (...args: string[]) =>
      execFileSync('git', ['-c', 'user.name=Mika', '-c', 'user.email=m@kohama.example', ...args], { encoding: 'utf8' });
    git('clone', '-q', `${world.url.replace('//', `//x:${token}@`)}/git/new-site`, folder);
    const page = readFileSync(join(folder, 'public/index.html'), 'utf8');
    writeFileSync(join(folder, 'public/index.html'), page.replace('This page is live', 'This page is changed'));
    git('-C', folder, 'commit', '-qam', 'Say so');
    git('-C', folder, 'push', '-q', 'origin', 'main');
    await world.waitLive('new-site', 'staging', git('-C', folder, 'rev-parse', 'HEAD').trim());
    expect((await ask('new-site', '/')).text).toContain('This page is changed');
    const promoted = await world.cli('promote', '--to', 'new-site/production');
    expect(promoted.err).toBe('');
  });

  it('has its migrations listed, and what a promotion would run', async () => {
    const { token } = await world.api().post<AddedToken>('/api/tokens', { name: 'push notes', role: 'developer' });
    await world.cli('promote', '--to', 'new-node-api/production');
    const remote = `${world.url.replace('//', `//x:${token}@`)}/git/new-node-api`;
    const checkout = new Checkout(join(world.folder, 'notes'), remote);
    await checkout.start();
    await checkout.git('pull', '-q', 'origin', 'main');
    const first = readFileSync(join(checkout.folder, 'migrations/001-notes.sql'), 'utf8');
    const commit = await checkout.commitAndPush({
      'migrations/001-notes.sql': `${first}-- a word more\n`,
      'migrations/002-by.sql': 'alter table notes add column by text;\n',
    });
    await world.waitLive('new-node-api', 'staging', commit);
    const shown = await world.cli('release', 'show', 'r2', '--project', 'new-node-api');
    expect(shown.out).toContain('migrations/001-notes.sql, migrations/002-by.sql');
    const promotion = await world.api().get<Promotion>('/api/projects/new-node-api/environments/production/promotion');
    expect(promotion.migrations).toEqual([
      { path: 'migrations/001-notes.sql', what: 'changed' },
      { path: 'migrations/002-by.sql', what: 'new' },
    ]);
  });

  it.each([
    'project.added:after',
    'push.intended:before',
    'push.intended:after',
    'push.recorded:before',
    'push.recorded:after',
  ])('begins all the same where the service dies at %s', async (point) => {
    const name = `dies-${point.replace(/[.:]/g, '-')}`;
    const key = crypto.randomUUID();
    writeFileSync(join(world.folder, 'crash-at'), `${point}\n`);
    const body = { name, source: 'hosted', begin: 'site' };
    await until('it is added', () => world.api().post<AddedProject>('/api/projects', body, key));
    const live = await until('it is live', async () => {
      const one = await world.environment(name, 'staging').catch(() => null);
      return one?.live ? one : null;
    });
    expect(live.live?.commit.title).toBe('Begin');
    expect((await world.api().get<PageOf<Run>>(`/api/runs?project=${name}&limit=5`)).items).toHaveLength(1);
  });

  it('says what it can begin with', async () => {
    expect((await world.cli('project', 'new', 'odd', '--from', 'nothing')).err).toMatch(/node-api, python-api/);
    const post = async (body: object) =>
      (await world.api().raw('POST', '/api/projects', { body, headers: { 'idempotency-key': crypto.randomUUID() } }))
        .body.code;
    expect(await post({ name: 'odd', source: 'hosted', begin: '../../etc' })).toBe('body_invalid');
    expect(await post({ name: 'odd', source: 'polled', url: 'https://a.example/b.git', begin: 'site' })).toBe(
      'body_invalid',
    );
    expect(await post({ name: 'new-site', source: 'hosted', begin: 'site' })).toBe('name_taken');
  });

  it('there is a folder for each, with a definition and tests', () => {
    expect(readdirSync(join(root, 'beginnings')).sort()).toEqual([...beginningKinds].sort());
  });
});
