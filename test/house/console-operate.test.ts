/** Addresses, jobs and alerts in a real browser. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Browser, Page } from 'playwright-core';
import { openBrowser, signedIn, violations } from './browser.js';
import { openWorld, root, until, type World } from './world.js';

const definition = `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web }
    digest: { kind: job, files: [digest.sh], run: sh digest.sh, at: ["05:00 Europe/Oslo"] }
environments:
  staging: { branch: main }
`;

let world: World;
let browser: Browser;
let page: Page;
let names: Awaited<ReturnType<typeof import('../../demo/nameserver/nameserver.js').startNameServer>>;
let receiver: Server;
let received = 0;
const errors: string[] = [];
const own = 'lantern.kohama.test';
beforeAll(async () => {
  const { startNameServer } = (await import(
    `${root}/dist/demo/nameserver/nameserver.js`
  )) as typeof import('../../demo/nameserver/nameserver.js');
  names = await startNameServer();
  receiver = createServer((_request, response) => {
    received++;
    response.end();
  }).listen(0, '127.0.0.1');
  world = await openWorld({ env: { TSUNAGI_RESOLVERS: names.address, TSUNAGI_NETWORKS: '127.0.0.1/32' } });
  const { checkout, first } = await world.hosted('light', {
    'web/index.html': 'light',
    'digest.sh': 'echo "<b>sailings</b> of today"\n',
    'tsunagi.yaml': definition,
  });
  await checkout.push();
  await world.waitLive('light', 'staging', first);
  browser = await openBrowser();
  page = await signedIn(browser, world, errors);
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
  names?.close();
  receiver?.close();
});
const see = (text: string | RegExp) => page.getByText(text).first().waitFor();
const press = (name: string | RegExp) => page.getByRole('button', { name, exact: true }).first().click();

describe('the addresses of an environment', () => {
  it('are added with the record that proves them, which can be copied', async () => {
    await page.goto(`${world.url}/light/staging`);
    await page.getByRole('link', { name: 'Addresses' }).click();
    await see('given by the service');
    await page.getByLabel('A name of your own').fill(own);
    await press('Add it');
    await see(`_tsunagi.${own} TXT`);
    await see('found was no such record');
    await page.getByRole('button', { name: 'Copy the value' }).waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('are certified when the record is there, renamed, and removed after a second press', async () => {
    const value = await page
      .getByText(/^tsunagi-proof=/)
      .first()
      .textContent();
    names.set(`_tsunagi.${own}`, { TXT: [value ?? ''] });
    await press('Look now');
    await until('certified', async () => (await page.getByText('certified', { exact: true }).count()) === 2);
    await press('Rename');
    await page.getByLabel('Its first label').fill('beacon');
    await press('Rename it');
    await page
      .getByRole('link', { name: /^beacon\.localhost/ })
      .first()
      .waitFor();
    const row = page.getByLabel('Addresses', { exact: true }).locator('> div', { hasText: own });
    await row.getByRole('button', { name: 'Remove', exact: true }).click();
    await press(`Remove ${own}`);
    await until('gone', async () => (await page.getByText(own).count()) === 0);
    await page.getByLabel('A name of your own').fill('*.kohama.test');
    await press('Add it');
    await see('stands for many');
  });
});

describe('the jobs of an environment', () => {
  it('say when they run, run by hand, and show what they printed as text', async () => {
    await page.goto(`${world.url}/light/staging`);
    const jobs = page.getByLabel('Jobs', { exact: true });
    await jobs.getByText('05:00 Europe/Oslo').waitFor();
    await jobs.getByRole('button', { name: 'Run now' }).click();
    await jobs.getByText(/passed/).waitFor();
    await jobs.getByRole('button', { name: 'Log' }).click();
    await see('<b>sailings</b> of today');
    expect(await violations(page)).toEqual([]);
  });
});

describe('alerts', () => {
  it('are tried and added, show their secret once, and are tested again and removed', async () => {
    await page.goto(`${world.url}/`);
    await page.getByRole('link', { name: 'Alerts' }).waitFor();
    await page.keyboard.press('g');
    await page.keyboard.press('a');
    await see('Nothing is wrong');
    await page.getByLabel('Alerts', { exact: true }).getByLabel('Name', { exact: true }).fill('pager');
    await page.getByLabel('By', { exact: true }).click();
    await page.getByRole('option', { name: 'webhook' }).click();
    await page
      .getByLabel('Address of the webhook')
      .fill(`http://127.0.0.1:${(receiver.address() as AddressInfo).port}/events`);
    await page.getByLabel('disk full').click();
    await press('Send a test, and add it');
    await see('pager is added; the test: accepted.');
    await see(/^whsec_/);
    expect(received).toBe(1);
    expect(await violations(page)).toEqual([]);
    await page.reload();
    await see('pager');
    expect(await page.getByText(/whsec_/).count()).toBe(0);
    await press('Send a test');
    await see('accepted');
    await press('Remove');
    await press('Remove pager');
    await see('Nobody yet.');
  });

  it('say what is missing: no mail server is set', async () => {
    await page.getByLabel('Your mail address').fill('owner@kohama.example');
    await page.getByLabel('my run failed').click();
    await press('Keep it');
    await see(/No mail server is set/);
  });

  it('say where logs go on to: tried, added, tried again, removed', async () => {
    const card = page.getByLabel('Log destinations', { exact: true });
    await card.getByText('They stay here.').waitFor();
    await card.getByLabel('Name', { exact: true }).fill('archive');
    await card.getByLabel('Address of the receiver').fill('syslog://127.0.0.1:1');
    await press('Send a line, and add it');
    await see(/127\.0\.0\.1:1 refused it/);
    await card.getByLabel('As', { exact: true }).click();
    await page.getByRole('option', { name: 'OTLP' }).click();
    const port = (receiver.address() as AddressInfo).port;
    await card.getByLabel('Address of the receiver').fill(`http://127.0.0.1:${port}`);
    await press('Send a line, and add it');
    await card.getByText(`http://127.0.0.1:${port}/v1/logs`).waitFor();
    expect(await violations(page)).toEqual([]);
    await card.getByRole('button', { name: 'Send a test' }).click();
    await card.getByText('accepted').waitFor();
    await card.getByRole('button', { name: 'Remove' }).click();
    await card.getByRole('button', { name: 'Remove archive' }).click();
    await card.getByText('They stay here.').waitFor();
  });

  it('leave no error behind', () => {
    expect(errors).toEqual([]);
  });
});
