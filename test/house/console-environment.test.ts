/** The environment's page: its sections, sizes, resources with rows and backups, figures; in a real browser. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import type { ResourceDetail } from '../../src/wire/environments/resources.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { ledger, ledgerDefinition } from './ledger.js';
import { openWorld, until, type World } from './world.js';

let world: World;
let browser: Browser;
let page: Page;
const errors: string[] = [];
const host = 'books-staging.localhost';
const path = '/api/projects/books/environments/staging/resources/notes';
beforeAll(async () => {
  world = await openWorld();
  const { checkout, first } = await world.hosted('books', { ...ledger(), 'tsunagi.yaml': ledgerDefinition() });
  await checkout.push();
  await world.waitLive('books', 'staging', first);
  for (let n = 1; n <= 60; n++) await world.visit(host, `/api/notes/note-${n}`, { method: 'POST' });
  await world.visit(host, `/api/notes/${encodeURIComponent('<img src=x onerror=alert(1)>')}`, { method: 'POST' });
  browser = await openBrowser();
  page = await signedIn(browser, world, errors);
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
});
const see = (text: string | RegExp) => page.getByText(text).first().waitFor();
const press = (name: string) => page.getByRole('button', { name, exact: true }).first().click();

describe('an environment’s page', () => {
  it('says what it is made of, and leads to its sections', async () => {
    await page.goto(`${world.url}/books/staging`);
    await see('staging runs r1');
    await page.getByLabel('Parts', { exact: true }).getByText('1 of 1 ready').waitFor();
    await page.getByLabel('Resources', { exact: true }).getByText('notes').waitFor();
    await page.getByRole('link', { name: 'Resources · 1' }).click();
    await page.waitForURL('**/books/staging/resources');
    expect(await violations(page)).toEqual([]);
  });

  it('scales a part', async () => {
    await page.goto(`${world.url}/books/staging`);
    await press('Scale');
    await page.getByLabel('instances', { exact: true }).fill('2');
    await page.getByLabel('memory each').fill('300M');
    await press('Scale api');
    await see('2 of 2 ready');
    await see('300M · set by hand');
    await press('Scale');
    await press('As the definition says');
    await see('1 of 1 ready');
  });

  it('shows the rows of a database as text, page by page', async () => {
    await page.goto(`${world.url}/books/staging/resources`);
    await press('Look at the rows');
    await see('rows 1 to 50');
    await see('note-7');
    await press('On');
    await see('rows 51 to 61');
    await see('<img src=x onerror=alert(1)>');
    expect(await page.getByRole('button', { name: 'On', exact: true }).isDisabled()).toBe(true);
    expect(await violations(page)).toEqual([]);
  });

  it('backs up, restores after a question, and opens a login that is shown once', async () => {
    await press('Back up now');
    await until('it is kept', async () => {
      const { backupList } = await world.api().get<ResourceDetail>(path);
      return backupList[0]?.state === 'kept';
    });
    await world.visit(host, '/api/notes/late', { method: 'POST' });
    await press('Restore …');
    await see('it is backed up first');
    await press('Restore backup 1');
    await until('it is restored', async () => {
      const { notes } = JSON.parse((await world.visit(host, '/api/notes')).text) as { notes: string[] };
      return notes.length === 61 && !notes.includes('late');
    });
    // Its programs may see the data of before a moment sooner than it is told to be there.
    await until('it is ready', async () => {
      const now = await world.api().get<ResourceDetail>(path);
      return now.state === 'ready' && !now.restoring;
    });
    await press('Open one');
    await see(/postgres:\/\/l_/);
    await page.reload();
    await see('a person');
    expect(await page.getByText(/postgres:\/\//).count()).toBe(0);
  });

  it('removes nothing that is used, and says so', async () => {
    await press('Remove …');
    await see('r1 uses it and is live: deploy a release without it first.');
    expect(await violations(page)).toEqual([]);
    await page.keyboard.press('Escape');
  });

  it('shows what its programs print, live and narrowed', async () => {
    await page.goto(`${world.url}/books/staging/log`);
    await page.getByLabel('Find in the log').fill('the LEDGER is');
    await see(/the ledger is open/);
    await page.getByLabel('Find in the log').fill('nobody says this');
    await see('Nothing was printed.');
    expect(await violations(page)).toEqual([]);
  });

  it('opens a terminal, and says who was inside', async () => {
    await page.goto(`${world.url}/books/staging/terminal`);
    await see('Nobody has been inside.');
    await press('Open a terminal');
    const screen = page.getByLabel('Terminal', { exact: true });
    // What it shows, as it is read out.
    await screen.getByText('books/staging /project $').first().waitFor();
    await page.keyboard.type('echo "it is $((6 * 7))"');
    await page.keyboard.press('Enter');
    await screen.getByText('it is 42').first().waitFor();
    await see('inside');
    // A sequence that would ask a terminal for more than to show it.
    await page.keyboard.type("printf '\\e]52;c;aGk=\\a\\e[8;5;5t\\e]0;a title\\a<b>bold</b>\\n'");
    await page.keyboard.press('Enter');
    await screen.getByText('<b>bold</b>').first().waitFor();
    expect(await page.title()).not.toContain('a title');
    expect(await violations(page)).toEqual([]);
    await page.keyboard.type('exit 3');
    await page.keyboard.press('Enter');
    await see('It has ended with exit 3.');
    await page.getByLabel('Who was inside').getByText('exit 3').waitFor();
    await page.getByLabel('Where', { exact: true }).click();
    await page.getByRole('option', { name: 'beside the program of api.1' }).click();
    await press('Open another');
    await page.getByLabel('Who was inside').getByText('beside api.1').waitFor();
    await page.getByLabel('Who was inside').getByRole('button', { name: 'End it' }).click();
    await see('It has ended: somebody ended it.');
  });

  it('has its variables: its own before those of the project, and what is missing here', async () => {
    const set = (environment: string | null, name: string, value: string) =>
      world.api().post('/api/projects/books/variables', { environment, set: [{ name, value, secret: false }] });
    await set(null, 'PIER', 'of the project');
    await set(null, 'FERRY', 'Hamakaze');
    await set('staging', 'PIER', 'of staging');
    await set('production', 'PIER', 'of production');
    await page.goto(`${world.url}/books/staging/variables`);
    const card = page.getByRole('region', { name: 'Variables' });
    await card.getByText('of staging').waitFor();
    await card.getByText('Hamakaze').waitFor();
    expect(await card.getByText(/of (the project|production)$/).count()).toBe(0);
    // What is set here is set for this environment.
    await card.getByLabel('Name', { exact: true }).fill('BELL');
    await card.getByLabel('Value', { exact: true }).fill('twice');
    await card.getByRole('button', { name: 'Set', exact: true }).click();
    await card.getByText('twice').waitFor();
    const { items } = await world
      .api()
      .get<{ items: { name: string; environment: string | null }[] }>('/api/projects/books/variables');
    expect(items.find((one) => one.name === 'BELL')?.environment).toBe('staging');
    expect(await violations(page)).toEqual([]);
  });

  it('draws figures, with the deployment marked', async () => {
    await page.goto(`${world.url}/books/staging/metrics`);
    await page.getByRole('img', { name: 'Requests over time' }).waitFor({ timeout: 40_000 });
    await page.getByRole('img', { name: 'Memory over time' }).waitFor({ timeout: 40_000 });
    for (const span of ['30 days', '1 hour']) await press(span);
    await press('by instance');
    await see('api.1');
    expect(await violations(page)).toEqual([]);
    await page.goto(`${world.url}/books/staging`);
    await page.getByRole('img', { name: 'Requests of the last hour' }).waitFor();
    await page.goto(`${world.url}/books/staging/nothing`);
    await see('There is no such section.');
    expect(errors).toEqual([]);
  });
});
