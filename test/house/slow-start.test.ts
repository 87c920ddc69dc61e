/** Servers that take long to listen: they get the time that they are given, and what fails says the right reason. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type Checkout, openWorld, until, type World } from './world.js';

/** Listens after so many milliseconds; a way to its database is open in its sandbox meanwhile. */
const server = (ms: number) => `import { createServer } from 'node:http';
console.log('loading tables');
setTimeout(() => {
  createServer((_, response) => response.end(String(process.uptime() > 1))).listen(process.env.PORT);
}, ${ms});
process.on('SIGTERM', () => process.exit(0));
`;
const definition = (within = '') => `tsunagi: 1
release:
  parts: { api: { kind: server, at: /, files: [server.js, package.json], start: node server.js${within} } }
  resources: { notes: { kind: postgres } }
  variables: { DATABASE_URL: { from: notes.url } }
environments: { staging: { branch: main } }
`;

let world: World;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('slow', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server(12_000),
    'tsunagi.yaml': definition(),
  }));
  await checkout.push();
  await world.waitLive('slow', 'staging', first);
});
afterAll(() => world?.close());

describe('a server that listens after twelve seconds', () => {
  it('goes live: the way to its database is not taken for a port of its own', async () => {
    const { live, health } = await world.environment('slow', 'staging');
    expect([live?.release, health]).toEqual([1, 'good']);
  });

  it('is restarted, which is no failure, whatever an older deployment has come to', async () => {
    await checkout.commitAndPush({ 'server.js': 'process.exit(3);\n' }, 'Broken');
    await until('it has failed', async () => (await world.environment('slow', 'staging')).failed?.release === 2);
    const before = (await world.environment('slow', 'staging')).instanceList.find((one) => one.state === 'ready');
    const { status, out, err } = await world.cli('restart', 'slow/staging');
    expect([status, err]).toEqual([0, '']);
    expect(out).not.toContain('failed');
    const after = (await world.environment('slow', 'staging')).instanceList.find((one) => one.state === 'ready');
    expect(after?.id).not.toBe(before?.id);
  });

  it('fails by its own time where that is shorter, with its port and the last line that it printed', async () => {
    await checkout.commitAndPush(
      { 'server.js': server(60_000), 'tsunagi.yaml': definition(', start_within: 3s') },
      'Short',
    );
    const failed = await until('it has failed', async () => {
      const { failed: one } = await world.environment('slow', 'staging');
      return one?.release === 3 && one.failure;
    });
    expect(failed.code).toBe('not_listening');
    expect(failed.says).toContain('loading tables');
    expect(failed.next).toContain('start_within');
    expect((await world.environment('slow', 'staging')).live?.release).toBe(1);
  });
});
