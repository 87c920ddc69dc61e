/** Going back: what it does, what it can't undo, and which variables and secrets programs have then. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { RevertAhead } from '../../src/wire/environments/environments.js';
import { type Checkout, openWorld, type World } from './world.js';

let world: World;
let checkout: Checkout;
const server = (text: string) => `import { createServer } from 'node:http';
const { LEVEL, KEY } = process.env;
createServer((request, response) => response.end('${text} ' + LEVEL + ' ' + KEY)).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = (oneWay = '', resources = '', production = 'after: staging') => `tsunagi: 1
release:
  parts: { api: { kind: server, files: [package.json, server.js], start: node server.js, ready: / } }
  migrations: { files: [migrations/]${oneWay} }
  variables: { LEVEL: { default: info }, KEY: { secret: true } }
  ${resources}
environments:
  staging: { branch: main }
  production: { ${production} }
`;
const host = 'quay-production.localhost';
const shows = async () => (await world.visit(host)).text;
const look = (release?: number) =>
  world
    .api()
    .get<RevertAhead>(`/api/projects/quay/environments/production/revert${release ? `?release=${release}` : ''}`);
async function bring(files: Record<string, string>, title: string) {
  const commit = await checkout.commitAndPush(files, title);
  const { live } = await world.waitLive('quay', 'staging', commit);
  const { number } = await world.act('quay', 'production', { kind: 'promote', release: live?.release as number });
  expect((await world.waitDeployment('quay', number)).state).toBe('live');
}
const change = (environment: string | null, name: string, value: string, secret = false) =>
  world.api().post('/api/projects/quay/variables', { environment, set: [{ name, value, secret }] });

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('quay', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server('one'),
    'migrations/001.sql': 'create table a();',
    'tsunagi.yaml': definition(),
  }));
  await change(null, 'KEY', 'pier-key', true);
  await checkout.push();
  await world.waitLive('quay', 'staging', first);
  const { number } = await world.act('quay', 'production', { kind: 'promote' });
  await world.waitDeployment('quay', number);
});
afterAll(() => world?.close());

describe('a revert', () => {
  it('says before what it does and what it can’t undo, and brings the plain variables of then', async () => {
    expect(await shows()).toBe('one info pier-key');
    await change('production', 'LEVEL', 'debug');
    await bring({ 'server.js': server('two'), 'migrations/002.sql': 'create table b();' }, 'Two');
    expect(await shows()).toBe('two debug pier-key');
    expect(await look()).toMatchObject({
      release: 1,
      live: 2,
      warm: true,
      keeps: false,
      variables: [{ name: 'LEVEL', then: 'info', now: 'debug' }],
      secrets: [],
      migrations: ['migrations/002.sql'],
      oneWay: [],
      unused: [],
      anew: [],
      writtenSince: expect.stringMatching(/^20/),
    });
    const { out } = await world.cli('revert', 'quay/production', '--look');
    expect(out).toMatch(/servers are warm[\s\S]*LEVEL: info again, debug now[\s\S]*does not undo:[\s\S]*002\.sql/);
    expect(await shows()).toBe('two debug pier-key');
    expect((await world.cli('revert', 'quay/production')).status).toBe(0);
    expect(await shows()).toBe('one info pier-key');
    await world.cli('lift', 'quay/production');
  });

  it('takes the variables of now where that is asked for, by programs that are started anew', async () => {
    await world
      .act('quay', 'production', { kind: 'promote', release: 2 })
      .then(({ number }) => world.waitDeployment('quay', number));
    expect((await world.cli('revert', 'quay/production', '--variables', 'later')).err).toContain('`then` or `now`');
    expect((await world.cli('revert', 'quay/production', '--variables', 'now')).status).toBe(0);
    expect(await shows()).toBe('one debug pier-key');
    await world.cli('lift', 'quay/production');
  });

  it('goes beyond what is one-way only when it is told so', async () => {
    await bring(
      {
        'server.js': server('three'),
        'migrations/003-drop.sql': 'drop table a;',
        'tsunagi.yaml': definition(', one_way: [migrations/003-drop.sql]'),
      },
      'Three',
    );
    expect(await look()).toMatchObject({ oneWay: ['migrations/003-drop.sql'] });
    const refused = await world.cli('revert', 'quay/production');
    expect(refused.err).toMatch(/has been through migrations\/003-drop\.sql, which r\d can’t bear/);
    // It counts also when the next release does not name it any more.
    await bring({ 'server.js': server('four'), 'tsunagi.yaml': definition() }, 'Four');
    expect((await look(1)).oneWay).toEqual(['migrations/003-drop.sql']);
    expect((await look(3)).oneWay).toEqual([]);
    expect((await world.cli('revert', 'quay/production', '--release', 'r1', '--one-way')).status).toBe(0);
    expect(await shows()).toMatch(/^one/);
    await world.cli('lift', 'quay/production');
    const both = definition(', one_way: [migrations/003-drop.sql]', '', 'after: staging, cutover: 10% for 1m');
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': both }, 'Shares beside a one-way');
    expect((await world.waitRun('quay', commit)).definitionIssues[0]?.code).toBe('one_way_shares');
  });
});
