/** A deployment of which one reads what it did and printed, on the command line and on its page, and which can be stopped. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import type { DeploymentDetail } from '../../src/wire/environments/environments.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { api, openWorld, until, type World } from './world.js';

const server = `import { createServer } from 'node:http';
console.log('api begins');
createServer((_, response) => response.end('ok')).listen(process.env.PORT);
`;
const definition = (prepare: string) => `tsunagi: 1
release:
  parts:
    api: { kind: server, at: /, files: [server.js, package.json], start: node server.js }
  prepare: { part: api, run: '${prepare}' }
environments:
  staging: { branch: main, verify: { reads: [check.sh], run: 'sh check.sh' } }
  production: { after: staging }
`;

let world: World;
let browser: Browser;
let page: Page;
const errors: string[] = [];
let push: (prepare: string) => Promise<string>;
const detail = (number: number) => world.api().get<DeploymentDetail>(`/api/projects/pier/deployments/${number}`);
beforeAll(async () => {
  world = await openWorld();
  const { checkout, first } = await world.hosted('pier', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server,
    'check.sh': 'echo verified it\n',
    'tsunagi.yaml': definition('echo tables are ready'),
  });
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
  push = (prepare) => checkout.commitAndPush({ 'tsunagi.yaml': definition(prepare) }, prepare);
  browser = await openBrowser();
  page = await signedIn(browser, world, errors);
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
});

describe('a deployment that is live', () => {
  it('shows its steps with times, its work and its instances, and what each of them printed', async () => {
    const one = await detail(1);
    expect(one.steps.map(({ what }) => what)).toEqual(
      expect.arrayContaining(['requested', 'preparing', 'starting', 'cutover', 'verifying', 'live']),
    );
    expect([...one.steps].sort((a, b) => a.at.localeCompare(b.at))).toEqual(one.steps);
    expect(one.attempts.map(({ kind, state }) => [kind, state])).toEqual([
      ['prepare', 'passed'],
      ['verify', 'passed'],
    ]);
    const { out } = await world.cli('deployment', 'show', 'd1', '--project', 'pier');
    expect(out).toMatch(/d1 live[\s\S]*preparing[\s\S]*prepare +passed[\s\S]*api\/1 +ready/);
    const log = async (...what: string[]) =>
      (await world.cli('deployment', 'log', 'd1', ...what, '--project', 'pier')).out;
    expect(await log('prepare')).toContain('tables are ready');
    expect(await log('verify')).toContain('verified it');
    expect(await log('api/1')).toContain('api begins');
    expect((await world.cli('deployment', 'log', 'd1', 'seed', '--project', 'pier')).err).toMatch(/prepare, verify/);
    expect((await world.cli('deployment', 'show', 'r1', '--project', 'pier')).err).toContain('not a deployment');
    expect((await world.cli('deployment', 'show', 'd99', '--project', 'pier')).err).toContain('d99');
    expect((await world.cli('deployment', 'stop', 'd1', '--project', 'pier')).err).toMatch(
      /d1 is not on its way: pier\/staging has it as live[\s\S]*tsunagi revert pier\/staging/,
    );
  });

  it('has a page, reached from the history', async () => {
    await page.goto(`${world.url}/pier/staging/history`);
    await page.getByRole('link', { name: 'd1', exact: true }).click();
    await page.getByRole('heading', { name: /d1 brings/ }).waitFor();
    await page.getByRole('button', { name: /prepare/ }).click();
    await page.getByText('tables are ready').first().waitFor();
    await page.getByRole('button', { name: /api\/1/ }).click();
    await page.getByText('api begins').first().waitFor();
    expect(await violations(page)).toEqual([]);
    await page.goto(`${world.url}/pier/deployments/99`);
    await page.getByText(/d99/).first().waitFor();
    expect(errors.filter((one) => !one.includes('404'))).toEqual([]);
  });
});

describe('a deployment whose prepare hangs', () => {
  it('is stopped with its work, says who did it, and what was live stays', async () => {
    await push('echo waiting for a lock; sleep 600');
    const moving = await until('it prepares', async () => {
      const { moving: one } = await world.environment('pier', 'staging');
      return one?.state === 'preparing' && one;
    });
    await until('it prints', async () => (await detail(moving.number)).attempts.some((one) => one.state === 'running'));
    // A viewer may look, and stops nothing.
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'looks', role: 'viewer' });
    const refused = await api(world.url, token).raw('POST', `/api/projects/pier/deployments/${moving.number}/stop`, {
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(refused.body.code).toBe('not_allowed');
    await page.goto(`${world.url}/pier/deployments/${moving.number}`);
    await page.getByRole('button', { name: 'Stop', exact: true }).click();
    await until('it has failed', async () => (await detail(moving.number)).state === 'failed');
    const one = await detail(moving.number);
    expect(one.failure?.says).toBe('owner stopped it.');
    await until('its work has ended', async () =>
      (await detail(moving.number)).attempts.every(({ state }) => state !== 'running' && state !== 'waiting'),
    );
    expect((await world.environment('pier', 'staging')).live?.number).toBe(1);
    expect((await world.cli('deployment', 'log', `d${moving.number}`, '--project', 'pier')).out).toContain(
      'waiting for a lock',
    );
    const again = await world.cli('deployment', 'stop', `d${moving.number}`, '--project', 'pier');
    expect([again.status, again.err]).toEqual([1, expect.stringContaining('has it as failed')]);
  });
});
