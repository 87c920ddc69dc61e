/** A prepare that the old programs can't bear: the environment is closed for it, shows a page, and opens again, whatever becomes of it. */
import { connect } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type Checkout, openWorld, until, visit, type World } from './world.js';

let world: World;
let checkout: Checkout;
let first: string;
const host = 'pier-staging.localhost';

const definition = (run: string, old = ', old: stopped') => `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web, fallback: index.html, maintenance: closed.html }
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /api, ready: /api }
    bell: { kind: worker, files: [worker.js, package.json], start: node worker.js }
  prepare: { part: api, run: ${run}${old} }
environments:
  staging: { branch: main }
`;
const files = (text: string, run: string, old?: string): Record<string, string> => ({
  'package.json': '{ "type": "module" }\n',
  'server.js': `import { createServer } from 'node:http';\ncreateServer((request, response) => response.end(${JSON.stringify(text)})).listen(process.env.PORT);\nprocess.on('SIGTERM', () => process.exit(0));\n`,
  'worker.js': `setInterval(() => console.log('tick'), 200);\n`,
  'web/index.html': `<h1>${text}</h1>\n`,
  'web/closed.html': '<h1>The pier is being repainted</h1>\n',
  'web/pier.css': 'h1 { color: #12324a }\n',
  'tsunagi.yaml': definition(run, old),
});
/** A prepare that goes on until it is let go. */
const waits = (end = 'true') => `"sleep 3; ${end}"`;

beforeAll(async () => {
  world = await openWorld();
  ({ checkout, first } = await world.hosted('pier', files('one', '"true"')));
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
});
afterAll(() => world?.close());

const page = (path: string, headers: Record<string, string> = { accept: 'text/html' }) =>
  world.visit(host, path, { headers });
const api = () => world.visit(host, '/api');
const closed = () => until('it is closed', async () => (await page('/')).text.includes('being repainted'));
const kinds = async () =>
  (await world.environment('pier', 'staging')).instanceList
    .filter((one) => ['waiting', 'starting', 'ready'].includes(one.state))
    .map((one) => one.part)
    .sort();

describe('a prepare with the old programs stopped', () => {
  it('closes, shows the page, ends what is old, and opens with what is new', async () => {
    const next = await checkout.commitAndPush(files('two', waits()), 'Two');
    await closed();
    expect(await page('/')).toEqual({ status: 503, text: '<h1>The pier is being repainted</h1>\n' });
    expect((await page('/somewhere/deep')).status).toBe(503);
    // Who goes to a page of the server is shown the same; a program that asks hears when to ask again.
    expect((await page('/api/list')).text).toContain('being repainted');
    expect(await api()).toEqual({ status: 503, text: 'This is being worked on; it answers again in a moment.\n' });
    expect((await world.visit(host, '/api', { method: 'POST' })).status).toBe(503);
    // A page that is open still gets its files.
    expect(await page('/pier.css', { accept: 'text/css,*/*' })).toEqual({
      status: 200,
      text: 'h1 { color: #12324a }\n',
    });
    await until('the old programs have ended', async () => (await kinds()).length === 0);
    const { delays } = await world.environment('pier', 'staging');
    expect(delays).toMatch(/^Its programs are stopped while d\d+ prepares/);
    expect((await world.cli('environment', 'show', 'pier/staging')).out).toContain('Its programs are stopped');
    await world.waitLive('pier', 'staging', next);
    expect([(await api()).text, (await page('/')).text]).toEqual(['two', '<h1>two</h1>\n']);
    expect((await world.environment('pier', 'staging')).delays).toBeNull();
    expect((await world.events('project=pier')).map((one) => one.type)).toContain('dev.tsunagi.traffic.stopped');
  });

  it('takes no upgrade meanwhile', async () => {
    const next = await checkout.commitAndPush(files('three', waits()), 'Three');
    await closed();
    const answer = await new Promise<string>((resolve, reject) => {
      const socket = connect(world.house.edgePort, '127.0.0.1', () =>
        socket.write(`GET /api HTTP/1.1\r\nHost: ${host}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n`),
      );
      let text = '';
      socket.on('data', (bytes) => (text += bytes.toString()));
      socket.on('close', () => resolve(text));
      socket.on('error', reject);
    });
    expect(answer).toMatch(/^HTTP\/1\.1 503 /);
    await world.waitLive('pier', 'staging', next);
  });

  it('that fails brings the old programs back, and opens only when they answer', async () => {
    await checkout.commitAndPush(files('four', waits('exit 3')), 'Four');
    await closed();
    const seen = new Set<string>();
    await until('the old one answers', async () => {
      const { status, text } = await page('/');
      seen.add(`${status} ${text.includes('three') ? 'three' : text.includes('repainted') ? 'closed' : text}`);
      return status === 200;
    });
    // Nobody was led to a program that was not there.
    expect([...seen].sort()).toEqual(['200 three', '503 closed']);
    expect((await api()).text).toBe('three');
    await until('all of it runs again', async () => (await kinds()).join() === 'api,bell');
    const one = await world.environment('pier', 'staging');
    expect(one.history[0]).toMatchObject({ state: 'failed', failure: { code: 'prepare_failed' } });
    await until('its health is good', async () => (await world.environment('pier', 'staging')).health === 'good');
  });

  it('goes on where a service that was killed left it', async () => {
    const next = await checkout.commitAndPush(files('five', waits()), 'Five');
    await closed();
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    // The edge knows it without the service.
    expect((await page('/')).status).toBe(503);
    await world.waitLive('pier', 'staging', next);
    expect((await api()).text).toBe('five');
  });

  it('closes nothing for a revert, nor where it is not asked for', async () => {
    const { number } = await world.act('pier', 'staging', { kind: 'revert' });
    const seen = new Set<number>();
    await until('it is reverted', async () => {
      seen.add((await visit(world.house.edgePort, host, '/api')).status);
      const one = await world.environment('pier', 'staging');
      return one.history[0]?.number === number && one.history[0].state === 'live';
    });
    expect([...seen]).toEqual([200]);
    await world.api().post('/api/projects/pier/environments/staging/lift', {});
    const next = await checkout.commitAndPush(files('six', '"sleep 1"', ''), 'Six');
    await until('it is live', async () => {
      seen.add((await api()).status);
      return (await world.environment('pier', 'staging')).live?.commit.id === next;
    });
    expect([...seen]).toEqual([200]);
  });
});
