/** Two releases beside each other: environments, releases, deployments; what is shown, and what never is. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Comparison } from '../../src/wire/compare.js';
import { type Checkout, openWorld, type World } from './world.js';

let world: World;
let checkout: Checkout;
const definition = (more = '') => `tsunagi: 1
tasks: { unit: { reads: [server.js], run: "true" } }
release:
  needs: [unit]
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, files: [package.json, server.js], start: node server.js, at: /api, ready: /api${more} }
  migrations: { files: [migrations/] }
  variables: { LEVEL: { default: info }, KEY: { secret: true } }
environments:
  staging: { branch: main }
  production: { after: staging }
`;
const server = `import { createServer } from 'node:http';
createServer((request, response) => response.end('ok')).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const compare = (from: string, to: string) =>
  world.api().get<Comparison>(`/api/projects/slip/compare?from=${from}&to=${to}`);
const set = (environment: string | null, name: string, value: string, secret = false) =>
  world.api().post('/api/projects/slip/variables', { environment, set: [{ name, value, secret }] });

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('slip', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server,
    'web/index.html': '<h1>one</h1>\n',
    'web/old.txt': 'old\n',
    'migrations/001.sql': 'create table a();',
    'tsunagi.yaml': definition(),
  }));
  await set(null, 'KEY', 'the-pier-key', true);
  await checkout.push();
  await world.waitLive('slip', 'staging', first);
  const { number } = await world.act('slip', 'production', { kind: 'promote' });
  await world.waitDeployment('slip', number);
  await set('staging', 'LEVEL', 'debug');
  await set('staging', 'KEY', 'another-key', true);
  const second = await checkout.commitAndPush(
    {
      'web/index.html': '<h1>two</h1>\n',
      'web/old.txt': null,
      'web/new.txt': 'new\n',
      'migrations/002.sql': 'create table b();',
      'tsunagi.yaml': definition(', instances: 2'),
    },
    'Second',
  );
  await world.waitLive('slip', 'staging', second);
});
afterAll(() => world?.close());

describe('a comparison', () => {
  it('says of two environments all that differs, each by its name', async () => {
    const one = await compare('production', 'staging');
    expect([one.from, one.to]).toMatchObject([
      { name: 'production', environment: 'production', release: 1 },
      { name: 'staging', environment: 'staging', release: 2 },
    ]);
    expect(one.commits.map(({ title, author }) => [title, author])).toEqual([['Second', 'Mika']]);
    expect([one.lost, one.notInMain]).toEqual([[], []]);
    const page = one.parts.find(({ name }) => name === 'page');
    expect(page?.files).toEqual({
      count: 3,
      changes: [
        { path: 'web/index.html', what: 'changed', from: 13, to: 13 },
        { path: 'web/new.txt', what: 'added', from: null, to: 4 },
        { path: 'web/old.txt', what: 'removed', from: 4, to: null },
      ],
    });
    // Its files are the same; how many of it run is no byte of it.
    expect(one.parts.find(({ name }) => name === 'api')?.files?.count).toBe(0);
    expect(one.variables).toEqual([
      { name: 'KEY', what: 'changed', secret: true, from: null, to: null },
      { name: 'LEVEL', what: 'changed', secret: false, from: 'info', to: 'debug' },
    ]);
    expect(one.sizes).toEqual([{ name: 'api', what: 'changed', from: '1 instance', to: '2 instances' }]);
    expect(one.migrations).toEqual([{ path: 'migrations/002.sql', what: 'added' }]);
    expect(one.definition).toContain('+    api: { kind: server');
    expect(JSON.stringify(one)).not.toMatch(/the-pier-key|another-key/);
  });

  it('says the same the other way round, and nothing of two that are one', async () => {
    const back = await compare('staging', 'production');
    expect(back.lost.map(({ title }) => title)).toEqual(['Second']);
    expect(back.commits).toEqual([]);
    expect(back.migrations).toEqual([{ path: 'migrations/002.sql', what: 'removed' }]);
    const same = await compare('r2', 'r2');
    expect(same).toMatchObject({ commits: [], lost: [], definition: '', tools: [], resources: [], variables: null });
    expect(same.parts.every(({ from, to }) => from === to)).toBe(true);
  });

  it('takes releases and deployments, in the command line too', async () => {
    expect((await compare('d1', 'd3')).variables).toHaveLength(2);
    const { out } = await world.cli('compare', 'production', 'r2', '--project', 'slip');
    expect(out).toMatch(/production {2}r1[\s\S]*→[\s\S]*r2/);
    expect(out).toMatch(/changed {2}web\/index\.html/);
    expect(out).toContain('Variables and sizes are those of deployments');
    expect((await world.cli('compare', 'nowhere', 'r2', '--project', 'slip')).err).toContain('Compare environments');
    expect((await world.cli('compare', 'r9', 'r2', '--project', 'slip')).err).toContain('r9 of slip');
  });

  it('says what is live and not in main', async () => {
    const own = await checkout.commitAndPush({ 'web/index.html': '<h1>aside</h1>\n' }, 'Aside', 'aside');
    await world.waitRun('slip', own);
    const { number } = (
      await world.api().get<{ items: { number: number; commit: { id: string } }[] }>('/api/projects/slip/releases')
    ).items.find(({ commit }) => commit.id === own) as { number: number };
    const one = await compare('production', `r${number}`);
    expect(one.notInMain.map(({ title }) => title)).toEqual(['Aside']);
  });
});
