/** The page of reviews, a review's own page, and the page of one that sleeps; in a real browser. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { notified, startCodeHost } from './codehost.js';
import { type Checkout, openWorld, until, type World } from './world.js';

const server = `import { createServer } from 'node:http';
createServer((request, response) => { response.setHeader('content-type', 'text/html'); response.end('<title>Departures</title><h1>Departures of ' + process.pid + '</h1>'); }).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, files: [server.js, package.json], start: node server.js, ready: / } }
environments:
  review: { for: pull requests }
  staging: { branch: main }
`;
const evil = '<img src=x onerror="document.title=1"> Winter \u202e';

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
let browser: Browser;
let page: Page;
const errors: string[] = [];
const see = (text: string | RegExp) => page.getByText(text).first().waitFor();
const press = (name: string | RegExp) => page.getByRole('button', { name }).first().click();
const review = (name: string) => world.environment('sailings', name);

beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  let first: string;
  ({ checkout, first } = await notified(world, codehost, 'sailings', {
    'server.js': server,
    'package.json': '{ "type": "module" }\n',
    'tsunagi.yaml': definition,
  }));
  await world.waitLive('sailings', 'staging', first);
  for (const branch of ['winter', 'outside', 'autumn']) {
    await checkout.git('checkout', '-qb', branch, 'main');
    await checkout.commit({ 'server.js': `${server}// ${branch}\n` }, `The ${branch} timetable`);
    await checkout.git('push', '-q', 'origin', branch);
  }
  await codehost.openPull('sailings', { title: evil, branch: 'winter' });
  await codehost.openPull('sailings', { title: 'A faster router', branch: 'outside', trusted: false });
  await until('the review is live', async () => (await review('pr-214')).live);
  browser = await openBrowser();
  page = await signedIn(browser, world, errors);
});
afterAll(async () => {
  await browser?.close();
  await codehost?.close();
  await world?.close();
});

describe('the page of reviews', () => {
  it('says what is open, what waits for somebody, and shows whatever a stranger writes as text', async () => {
    await page.getByRole('link', { name: 'Reviews', exact: true }).click();
    await page.waitForURL('**/reviews');
    await see('1 awake');
    await see('1 waits to be allowed');
    await see('<img src=x onerror="document.title=1"> Winter');
    await see(/sleeps in \d+ min/);
    expect(await page.title()).not.toBe('1');
    expect(await violations(page)).toEqual([]);
  });

  it('allows a stranger’s commit, and then its run goes on', async () => {
    await see('A faster router');
    await press(/^Allow/);
    await until('the run has ended', async () => {
      const { items } = await world
        .api()
        .get<{ items: { pullRequest: number | null; state: string }[] }>('/api/runs?project=sailings');
      return items.some((one) => one.pullRequest === 215 && one.state === 'passed');
    });
    // It is of a stranger: what was allowed is shown, apart from all others.
    const row = page.locator('li', { hasText: 'A faster router' });
    const open = row.getByRole('link', { name: 'Open pr-215' });
    await open.waitFor();
    expect(await open.getAttribute('href')).toContain('pr-215-sailings.untrusted.localhost');
    expect(await row.textContent()).toContain('from outside');
  });

  it('opens one for a branch, and follows it until it is live', async () => {
    await press('Open one for a branch');
    await page.getByLabel('Branch').fill('nowhere');
    await press('Open it');
    await see('sailings has no branch nowhere.');
    await page.getByLabel('Branch').fill('autumn');
    await press('Open it');
    await see('branch autumn');
    await see('The autumn timetable');
    expect(await violations(page)).toEqual([]);
  });

  it('fits a phone', async () => {
    await page.setViewportSize({ width: 390, height: 800 });
    await page.goto(`${world.url}/reviews`);
    await see('branch autumn');
    const wide = await page.evaluate('document.documentElement.scrollWidth');
    expect(wide).toBeLessThanOrEqual(390);
    await page.setViewportSize({ width: 1280, height: 800 });
  });
});

describe('a review’s page', () => {
  it('lets it sleep, says so, and wakes it', async () => {
    await page.goto(`${world.url}/sailings/on-autumn`);
    await see('on-autumn runs');
    await press('Put to sleep');
    await see('on-autumn is asleep');
    await see(/its programs stand still; a visit wakes it/);
    await page.getByLabel('Parts', { exact: true }).getByText('asleep').waitFor();
    expect(await violations(page)).toEqual([]);
    await press('Wake');
    await see('on-autumn runs');
  });

  it('keeps it for longer, and closes it', async () => {
    const before = (await review('on-autumn')).review?.closesAt as string;
    await press('Extend by 3 days');
    await until('it is kept', async () => (await review('on-autumn')).review?.keepUntil);
    expect(Date.parse((await review('on-autumn')).review?.closesAt as string)).toBeGreaterThanOrEqual(
      Date.parse(before),
    );
    await press('Close');
    await press('Close the review');
    await see(/is closed: .*; its runs, logs and pictures stay\. The page of reviews opens it again/);
    expect((await world.visit('on-autumn-sailings.review.localhost', '/')).status).toBe(404);
  });
});

describe('the page of a review that sleeps', () => {
  const address = () => `http://pr-214-sailings.review.localhost:${world.house.ports.edge}/`;
  const sleep = async () => {
    await world.api().post('/api/projects/sailings/environments/pr-214/sleep');
    await until('it sleeps', async () => (await review('pr-214')).state === 'asleep');
  };

  it('wakes it by itself and goes on to it', async () => {
    await sleep();
    const visitor = await (await browser.newContext()).newPage();
    visitor.on('pageerror', (error) => errors.push(error.message));
    await visitor.goto(address());
    await visitor.getByRole('heading', { name: /^Departures of/ }).waitFor();
    expect((await review('pr-214')).state).toBe('live');
    await visitor.close();
  });

  it('can be used without scripts, is readable for everybody, and frames nothing', async () => {
    await sleep();
    const plain = await (await browser.newContext({ javaScriptEnabled: false })).newPage();
    const answer = await plain.goto(address());
    expect(answer?.status()).toBe(503);
    expect(answer?.headers()).toMatchObject({ 'cache-control': 'no-store', 'x-robots-tag': 'noindex, nofollow' });
    expect(answer?.headers()['content-security-policy']).toContain("frame-ancestors 'none'");
    await plain.getByRole('button', { name: 'Wake it' }).click();
    await until('it is awake', async () => (await review('pr-214')).state === 'live');
    await plain.goto(address());
    await plain.getByRole('heading', { name: /^Departures of/ }).waitFor();
    await plain.close();
  });

  it('nothing went wrong in any of the pages', () => {
    expect(errors).toEqual([]);
  });
});
