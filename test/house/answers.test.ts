/** Programs that were ready and do not answer any more, without having ended: they are not called good, and are started again in words. */
import { execFileSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { FigureLines } from '../../src/wire/environments/figures.js';
import { openWorld, until, type World } from './world.js';

let world: World;
const host = 'pier-staging.localhost';
const server = `import { createServer } from 'node:http';
const server = createServer((request, response) => {
  response.end('high water');
  if (request.url !== '/stop') return;
  server.close();
  server.closeIdleConnections();
});
server.listen(process.env.PORT);
setInterval(() => {}, 1000);
`;

beforeAll(async () => {
  world = await openWorld({ env: { TSUNAGI_SILENCE: '3000', TSUNAGI_NETWORK: 'pasta' } });
  const { checkout, first } = await world.hosted('pier', {
    'server.js': server,
    'package.json': '{ "type": "module" }\n',
    'tsunagi.yaml': `tsunagi: 1
tasks: { unit: { run: node --check server.js } }
release:
  needs: [unit]
  parts:
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /, ready: / }
environments:
  staging: { branch: main }
`,
  });
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
});
afterAll(() => world?.close());

const restarts = async () =>
  (await world.api().get<FigureLines>('/api/projects/pier/environments/staging/figures?by=instance')).restarts;
const answersAgain = () =>
  until('it answers again', async () => {
    const { status, text } = await world.visit(host, '/').catch(() => ({ status: 0, text: '' }));
    return status === 200 && text === 'high water';
  });

describe('a program that was ready', () => {
  it('and takes no connection any more is ended, and started again', async () => {
    await world.visit(host, '/stop');
    const [one] = await until('that is said', async () => ((await restarts()).length === 1 ? restarts() : null));
    expect(one?.issue?.code).toBe('silent');
    await answersAgain();
  });

  it('and has lost the helper that ties its network is ended, and started again', async () => {
    const live = join(world.folder, 'house/agent/live');
    const helpers = readdirSync(live)
      .map((id) => join(live, id, 'pasta.pid'))
      .filter((path) => existsSync(path))
      .map((path) => readFileSync(path, 'utf8').trim())
      .filter((pid) => existsSync(`/proc/${pid}`));
    expect(helpers.length).toBeGreaterThan(0);
    for (const pid of helpers) process.kill(Number(pid), 'SIGKILL');
    const [one] = await until('that is said', async () => {
      const all = await restarts();
      return all.length === 2 ? all.filter(({ issue }) => issue?.code !== 'silent') : null;
    });
    expect(one?.issue?.code).toBe('network_over');
    await answersAgain();
    // What has been ended leaves no helper behind.
    for (const pid of helpers)
      expect(execFileSync('ps', ['-eo', 'pid'], { encoding: 'utf8' })).not.toMatch(new RegExp(`^ *${pid}$`, 'm'));
  });
});
