/** How delivery goes, on a whole house: what is pushed, promoted, taken back and reused is counted once, whatever dies meanwhile. */
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Delivery } from '../../src/wire/delivery.js';
import type { Event } from '../../src/wire/overview.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Browser, Page } from 'playwright-core';
import { openBrowser, signedIn, violations } from './browser.js';
import { erring } from './erring.js';
import { api, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const server = erring('/');
/** Fails the first time, and passes with the same bytes after that. */
const flaky = `const { existsSync, writeFileSync } = require('node:fs');
const again = existsSync('.cache/again');
require('node:fs').mkdirSync('.cache', { recursive: true });
writeFileSync('.cache/again', '');
writeFileSync('report.xml', '<testsuite><testcase classname="tides" name="at full moon">' + (again ? '' : '<failure message="no water"/>') + '</testcase></testsuite>');
process.exit(again ? 0 : 1);
`;
const definition = `tsunagi: 1
tasks:
  lint: { reads: [lint.txt], run: sleep 0.3 }
  unit: { reads: [flaky.js], run: node flaky.js, results: report.xml, retry: 1, cache: [.cache/] }
release:
  parts: { api: { kind: server, files: [package.json, server.js], start: node server.js } }
environments:
  staging: { branch: main }
  production: { after: staging, verify: { run: 'test ! -e fail' , reads: [fail] } }
`;

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('quay', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server('first'),
    'flaky.js': flaky,
    'lint.txt': 'x',
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await world.waitLive('quay', 'staging', first);
});
afterAll(() => world?.close());

const look = (query = '') => world.api().get<Delivery>(`/api/delivery?weeks=2${query}`);
const counted = (what: string, fits: (one: Delivery) => boolean) =>
  until(what, async () => {
    const one = await look();
    return fits(one) && one;
  });
async function promoted(): Promise<string> {
  const { number } = await world.act('quay', 'production', { kind: 'promote' });
  return (await world.waitDeployment('quay', number)).state;
}

describe('how delivery goes', () => {
  it('counts a deployment with the way of each commit that it brought', async () => {
    expect(await promoted()).toBe('live');
    await checkout.commitAndPush({ 'server.js': server('second') }, 'second');
    const third = await checkout.commitAndPush({ 'server.js': server('third') }, 'third');
    await world.waitLive('quay', 'staging', third);
    expect(await promoted()).toBe('live');
    const one = await counted('both are counted', ({ delivery }) => delivery.all.deployments === 2);
    // The first one brings its own commit alone: what was before it was never to come here.
    expect(one.delivery.all).toMatchObject({ seen: 2, failed: 0, unseen: 0, failedShare: 0, lead: { count: 3 } });
    expect(one.delivery.weeks.map(({ deployments }) => deployments)).toEqual([0, 2]);
    const { lead, pushed, built, waited, brought } = one.delivery.all;
    for (const part of [pushed, built, waited, brought])
      expect(part.half).toBeLessThanOrEqual(lead.nineOfTen as number);
    // Staging is not the end of the way.
    expect(one.projects.map(({ project, delivery }) => [project, delivery.all.deployments])).toEqual([['quay', 2]]);
  });

  it('counts what failed, what nobody saw of it, and how long it took to be well again', async () => {
    await world.waitLive('quay', 'staging', await checkout.commitAndPush({ fail: 'yes' }, 'fails'));
    expect(await promoted()).toBe('failed');
    await world.waitLive(
      'quay',
      'staging',
      await checkout.commitAndPush(
        {
          fail: null,
          'server.js': `if (process.env.TSUNAGI_ENVIRONMENT === 'production') process.exit(1);\n${server('x')}`,
        },
        'does not start',
      ),
    );
    expect(await promoted()).toBe('failed');
    await world.waitLive('quay', 'staging', await checkout.commitAndPush({ 'server.js': server('fourth') }, 'fourth'));
    expect(await promoted()).toBe('live');
    await world.cli('revert', 'quay/production');
    const { delivery } = await counted('all are counted', (one) => one.delivery.all.failed === 2);
    expect(delivery.all).toMatchObject({ deployments: 3, seen: 4, failed: 2, unseen: 1, failedShare: 0.5 });
    expect(delivery.all.restored.count).toBe(2);
    expect(delivery.all.restored.nineOfTen).toBeLessThan(30_000);
    await world.cli('lift', 'quay/production');
  });

  it('counts tasks, what was reused, and tests that can’t be trusted', async () => {
    const one = await look();
    expect(one.work.all.reused).toBeGreaterThan(4);
    expect(one.work.all.savedMs).toBeGreaterThan(1_000);
    // A pass after a failure is not reused: it runs with each of the six.
    expect(one.work.all.waited.count).toBe(8);
    expect(one.tasks.map(({ project, task, ran, flaky: times }) => [project, task, ran, times]).sort()).toEqual([
      ['quay', 'lint', 1, 0],
      ['quay', 'unit', 6, 1],
    ]);
    expect(one.flaky).toEqual([
      { project: 'quay', task: 'unit', test: 'tides › at full moon', times: 1, last: expect.any(String) },
    ]);
  });

  it.each(['before', 'after'])('counts nothing twice when the service dies %s the commit of it', async (side) => {
    const before = await until('the service answers', look);
    const file = join(world.folder, 'crash-at');
    writeFileSync(file, `delivery.counted:${side}\n`);
    const commit = await checkout.commitAndPush({ 'lint.txt': side }, side);
    await until('it was pushed', () => world.waitLive('quay', 'staging', commit).catch(() => null));
    const one = await counted('it is counted', ({ work }) => work.all.ran > before.work.all.ran);
    await new Promise((resolve) => setTimeout(resolve, 4_000));
    const then = await until('the service answers', look);
    expect([then.work.all.ran, then.work.all.reused]).toEqual([one.work.all.ran, one.work.all.reused]);
    expect(then.work.all.ran).toBe(before.work.all.ran + 2);
  });

  it('is told by the command line, as tables, and to a token of one project for that alone', async () => {
    const shown = await world.cli('metrics', '--weeks', '2');
    expect(shown.err).toBe('');
    for (const text of [
      'All projects, the last 2 weeks',
      '3, 1.5 a week',
      '50 % (2 of 4)',
      'quay unit',
      'tides › at full moon',
    ])
      expect(shown.out).toContain(text);
    const csv = await world.cli('metrics', '--project', 'quay', '--weeks', '2', '--csv');
    const [head, , last] = csv.out.trim().split('\r\n');
    expect(head).toMatch(/^project,week,deployments,seen,failed,failed_unseen,lead_half_ms/);
    expect(last).toMatch(/^quay,\d{4}-\d\d-\d\d,3,4,2,1,\d+/);
    expect((await world.cli('metrics', '--csv', 'flaky')).out).toContain('quay,unit,tides › at full moon,1,');
    expect((await world.cli('metrics', '--weeks', '0')).err).toContain('not a number of weeks');
    expect((await world.cli('metrics', 'quay/production', '--weeks', '3')).err).toContain('name no environment');
    await world.api().post('/api/projects', { name: 'other', source: 'hosted' });
    const { token } = await world.api().post<{ token: string }>('/api/tokens', {
      name: 'bound',
      role: 'viewer',
      project: 'other',
    });
    const bound = api(world.url, token);
    expect((await bound.get<Delivery>('/api/delivery')).projects).toEqual([]);
    expect((await bound.raw('GET', '/api/delivery?project=quay')).status).toBe(404);
    expect((await bound.raw('GET', '/api/delivery/csv?project=quay')).status).toBe(404);
    expect((await world.api().raw('GET', '/api/delivery?weeks=1000')).status).toBe(400);
    expect((await world.api().raw('GET', '/api/delivery?project=nowhere')).status).toBe(404);
  });
});

describe('who did what', () => {
  const events = async (query: string) =>
    (await world.api().get<PageOf<Event>>(`/api/events?limit=200&${query}`)).items;
  it('is asked for by whom, and about what; what followed by itself is left out where only people count', async () => {
    const all = await events('');
    const people = await events('people=true');
    expect(people.length).toBeGreaterThan(5);
    expect(people.every(({ data }) => data.actor !== 'engine' && data.actor !== 'agent')).toBe(true);
    expect(all.some(({ data }) => data.actor === 'engine')).toBe(true);
    const own = await events('actor=owner&about=releases');
    expect(new Set(own.map(({ type }) => type.split('.')[2]))).toEqual(new Set(['deployment']));
    expect(await events('actor=nobody')).toEqual([]);
    expect((await world.api().raw('GET', '/api/events?about=weather')).status).toBe(400);
    const shown = await world.cli('events', '--people', '--actor', 'owner', '--limit', '200');
    expect(shown.out).toContain('environment.held');
    expect(shown.out).not.toContain('run.ended');
  });
});

describe('in the console', () => {
  let browser: Browser;
  let page: Page;
  const errors: string[] = [];
  beforeAll(async () => {
    browser = await openBrowser();
    page = await signedIn(browser, world, errors);
  });
  afterAll(() => browser?.close());
  const see = (text: string | RegExp) => page.getByText(text).first().waitFor();

  it('each figure says what it counts, and is drawn for those who can’t see it, too', async () => {
    await page.getByRole('link', { name: 'Metrics' }).click();
    await see('2 of 4, and 1 that nobody saw');
    const { definitions } = await look();
    await page.getByRole('region', { name: 'Lead time' }).getByText('What it counts').click();
    await see(definitions.lead as string);
    await page.getByRole('img', { name: /^Deployments by week: .*, \d+ \w+ 3$/ }).waitFor();
    await see('tides › at full moon');
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: '4 weeks', exact: true }).click();
    await page.waitForURL('**/delivery?weeks=4');
    const [file] = await Promise.all([page.waitForEvent('download'), page.getByText('tasks.csv').click()]);
    expect(file.suggestedFilename()).toBe('tasks.csv');
  });

  it('who did what is filtered, and leads to where it was', async () => {
    await page.getByRole('link', { name: 'Activity' }).click();
    await see('put quay/production on hold');
    expect(await page.getByText('is live').count()).toBe(0);
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: 'also what happened by itself' }).click();
    await page.getByRole('button', { name: 'releases', exact: true }).click();
    await see(/d\d+ of quay\/production is live/);
    expect(await page.getByText('put quay/production on hold').count()).toBe(0);
    await page.getByRole('link', { name: 'quay/production' }).first().click();
    await page.waitForURL('**/quay/production');
    await page.goto(`${world.url}/activity?who=nobody%20at%20all`);
    await see('Nothing matches.');
    expect(errors).toEqual([]);
  });

  it('fit on a phone', async () => {
    await page.setViewportSize({ width: 390, height: 800 });
    for (const path of ['/delivery', '/activity']) {
      await page.goto(world.url + path);
      await page.getByRole('heading', { level: 1 }).waitFor();
      await see(path === '/delivery' ? 'The way of a commit' : 'pushed to');
      expect(await page.evaluate('document.documentElement.scrollWidth')).toBeLessThanOrEqual(390);
    }
  });
});
