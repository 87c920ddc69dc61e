import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Deployment } from '../../src/wire/environments/environments.js';
import type { VariableChanges } from '../../src/wire/environments/variables.js';
import { type Checkout, openWorld, until, type World } from './world.js';

const definition = `tsunagi: 1
release:
  parts:
    page:
      kind: site
      files: [web/]
      root: web
      settings: { at: /settings.json, names: [GREETING, PUBLIC_API] }
      headers: { /: { X-Content-Type-Options: nosniff } }
      redirects: { /home: / }
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /api, strip: true, sticky: true, instances: 2 }
  variables:
    GREETING: { default: hello }
    PUBLIC_API: { from: environment.url, append: /api }
environments:
  staging: { branch: main }
  production: { after: staging }
`;
const server = `import { createServer } from 'node:http';
createServer((request, response) => response.end(JSON.stringify({ url: request.url, pid: process.pid, cookie: request.headers.cookie }))).listen(process.env.PORT);
`;

let world: World;
let checkout: Checkout;
const host = 'lane-staging.localhost';
beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('lane', {
    'web/index.html': '<h1>one</h1>',
    'web/assets/app-1a2b3c4d.js': 'one',
    'server.js': server,
    'package.json': '{ "type": "module" }',
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await world.waitLive('lane', 'staging', first);
});
afterAll(() => world?.close());

const settings = async (at = host) =>
  JSON.parse((await world.visit(at, '/settings.json')).text) as Record<string, string>;
const set = (values: Record<string, string>, secret = false) =>
  world.api().post<VariableChanges>('/api/projects/lane/variables', {
    environment: 'staging',
    set: Object.entries(values).map(([name, value]) => ({ name, value, secret })),
  });
const deploy = () =>
  world.api().post<Deployment>('/api/projects/lane/environments/staging/deployments', { kind: 'deploy', release: 1 });

describe('one address', () => {
  it('has a site with its settings, and a program that sees its own paths', async () => {
    expect((await world.visit(host, '/')).text).toBe('<h1>one</h1>');
    const url = (await world.environment('lane', 'staging')).url;
    expect(await settings()).toEqual({ GREETING: 'hello', PUBLIC_API: `${url}/api` });
    expect(JSON.parse((await world.visit(host, '/api/list?x=1')).text)).toMatchObject({ url: '/list?x=1' });
    expect((await world.visit(host, '/home')).status).toBe(307);
  });

  it('serves the same bytes everywhere, each environment with its own settings', async () => {
    await world.api().post('/api/projects/lane/environments/production/deployments', { kind: 'promote', release: 1 });
    const there = 'lane-production.localhost';
    await until('live', async () => (await world.visit(there, '/')).status === 200);
    expect((await settings(there)).PUBLIC_API).toContain(there);
    await set({ GREETING: 'ahoy' });
    const { number } = await deploy();
    await world.waitDeployment('lane', number);
    expect([(await settings()).GREETING, (await settings(there)).GREETING]).toEqual(['ahoy', 'hello']);
    // What is live is kept: the settings stay with the table when a program is replaced.
    const [one] = (await world.environment('lane', 'staging')).instanceList.filter((row) => row.state === 'ready');
    expect(one?.kind).toBe('server');
  });

  it('answers files of the release before to pages that are open, and nothing else of it', async () => {
    const commit = await checkout.commitAndPush(
      { 'web/index.html': '<h1>two</h1>', 'web/assets/app-1a2b3c4d.js': null, 'web/assets/app-5e6f7a8b.js': 'two' },
      'two',
    );
    await world.waitLive('lane', 'staging', commit);
    await until('it is two', async () => (await world.visit(host, '/')).text === '<h1>two</h1>');
    expect((await world.visit(host, '/assets/app-5e6f7a8b.js')).text).toBe('two');
    expect((await world.visit(host, '/assets/app-1a2b3c4d.js')).text).toBe('one');
    expect((await world.visit(host, '/assets/none.js')).status).toBe(404);
  });
});

describe('a settings file', () => {
  it('never shows what has become a secret: nothing is deployed with it, and it is said', async () => {
    await set({ GREETING: 'not for everybody' }, true);
    await expect(deploy()).rejects.toThrow('settings_secret');
    await checkout.commitAndPush({ 'web/index.html': '<h1>three</h1>' }, 'three');
    const waiting = await until('it is said', async () => {
      const { issue } = await world.environment('lane', 'staging');
      return issue ?? null;
    });
    expect(waiting).toMatchObject({ code: 'settings_secret' });
    expect(JSON.stringify(await settings())).not.toContain('not for');
    // A name that is a secret stays one until it is taken away.
    await world.api().post('/api/projects/lane/variables', { environment: 'staging', remove: ['GREETING'] });
    await until('it goes on', async () => (await world.visit(host, '/')).text === '<h1>three</h1>');
    expect((await settings()).GREETING).toBe('hello');
  });
});
