/** Going back: what it does, what it can't undo, and which variables and secrets programs have then. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Deployment, RevertAhead } from '../../src/wire/environments/environments.js';
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
    const { out } = await world.cli('revert', 'quay/production', '--dry-run');
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

describe('what a revert leaves', () => {
  const asked = (body: Record<string, unknown>) =>
    world.api().post<Deployment>('/api/projects/quay/environments/production/deployments', { kind: 'revert', ...body });
  /** Goes back, and waits until every edge has heard of it. */
  const goBack = async (body: Record<string, unknown> = {}) => world.waitDeployment('quay', (await asked(body)).number);
  const production = () => world.environment('quay', 'production');
  const slow = (text: string) =>
    server(text).replace('.listen(process.env.PORT)', '') +
    'setTimeout(() => server.listen(process.env.PORT), 2500);\n';

  it('is left once, by whoever asks first; the others hear of that', async () => {
    await world.cli('lift', 'quay/production');
    await bring({ 'server.js': server('five'), 'tsunagi.yaml': definition() }, 'Five');
    await bring({ 'server.js': server('six') }, 'Six');
    const leaves = (await production()).live?.number as number;
    const answers = await Promise.all([asked({ leaves }), asked({ leaves }), asked({ leaves })]);
    expect(new Set(answers.map(({ number }) => number)).size).toBe(1);
    expect(answers.filter(({ already }) => already)).toHaveLength(2);
    await world.waitDeployment('quay', answers[0]?.number as number);
    expect(await shows()).toMatch(/^five/);
    expect(await asked({ leaves })).toMatchObject({ already: true, number: answers[0]?.number });
    expect(await shows()).toMatch(/^five/);
    await expect(asked({ leaves: 1 })).rejects.toMatchObject({ code: 'revert_moved' });
  });

  it('comes back by --undo, with the hold as it was; then there is nothing to undo', async () => {
    const { out, status } = await world.cli('revert', 'quay/production', '--undo', '--why', 'six was right');
    expect([status, out]).toEqual([0, expect.stringContaining('live')]);
    expect(await shows()).toMatch(/^six/);
    const now = await production();
    expect([now.held, now.live?.undoes, now.undo]).toEqual([null, true, false]);
    // What the undo has left is not gone back to: the way back is as it was before the revert.
    expect((await look()).candidates.map(({ release }) => release)[0]).toBe(now.revertsTo?.release);
    const twice = await world.cli('revert', 'quay/production', '--undo');
    expect([twice.status, twice.err]).toEqual([1, expect.stringContaining('no revert to undo')]);
  });

  it('is what was live before, also where that was once reverted and then brought back', async () => {
    const { live, revertsTo } = await production();
    const six = live?.release as number;
    const five = revertsTo?.release as number;
    // The revert that was undone has left its servers warm.
    expect(await look()).toMatchObject({ release: five, warm: true });
    await goBack();
    expect(await shows()).toMatch(/^five/);
    await world.cli('lift', 'quay/production');
    // Six was reverted, and is wanted again.
    const again = await world.act('quay', 'production', { kind: 'promote', release: six });
    await world.waitDeployment('quay', again.number);
    await bring({ 'server.js': server('seven') }, 'Seven');
    const ahead = await look();
    expect(ahead.candidates.map(({ release }) => release).slice(0, 2)).toEqual([six, five]);
    const { out } = await world.cli('revert', 'quay/production', '--dry-run');
    expect(out).toMatch(/gone back to[\s\S]*DEPLOYMENT[\s\S]*promote, owner[\s\S]*warm/);
    await goBack();
    expect(await shows()).toMatch(/^six/);
    await world.cli('lift', 'quay/production');
  });

  it('is still left when a second revert comes while the first is starting servers', async () => {
    await bring({ 'server.js': slow('eight').replace('createServer(', 'const server = createServer(') }, 'Eight, slow');
    const eight = (await production()).live?.release as number;
    await bring({ 'server.js': server('nine') }, 'Nine');
    // Other variables than then: no warm server can be used.
    await change('production', 'LEVEL', 'trace');
    const first = await asked({ variables: 'now' });
    expect(first.state).not.toBe('live');
    const second = await asked({});
    const third = await asked({ release: eight });
    expect([second.number, third.number]).toEqual([first.number, first.number]);
    expect((await world.waitDeployment('quay', first.number)).state).toBe('live');
    expect(await shows()).toBe('eight trace pier-key');
    await world.cli('lift', 'quay/production');
  });
});
