/** The guide, variables and a diagnosed failure, in a real browser. */
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { startCodeHost } from './codehost.js';
import { Checkout, openWorld, until, type World } from './world.js';

let world: World;
let codehost: CodeHost;
let browser: Browser;
let page: Page;
let checkout: Checkout;
let url: string;
const errors: string[] = [];
const server = (port: string) =>
  `require('node:http').createServer((q, r) => r.end(process.env.OFFICE + ' ' + String(process.env.MAIL_KEY).length)).listen(${port});\n`;

beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  url = codehost.addRepository('lost-property');
  checkout = new Checkout(join(world.folder, 'lost-property'), url);
  await checkout.start();
  await checkout.commitAndPush(
    {
      'package.json': '{ "scripts": { "start": "node server.js" } }',
      'server.js': `${server('3000')}process.env.OFFICE || 'lane';`,
    },
    'Lost things',
  );
  browser = await openBrowser();
  page = await signedIn(browser, world, errors);
  await page.getByText('There is no project yet').waitFor();
});
afterAll(async () => {
  await browser?.close();
  await codehost?.close();
  await world?.close();
});

const see = (text: string | RegExp) => page.getByText(text).first().waitFor();

describe('the guide', () => {
  it('begins at the board, and says in words what is wrong with a source', async () => {
    await page.getByRole('link', { name: 'From a repository to its first live address' }).click();
    await page.getByLabel('Address of the repository').fill(url);
    await page.getByRole('button', { name: 'Connect' }).click();
    await see(/an address of a private network/);
    expect(await violations(page)).toEqual([]);
    await page.getByText('It needs a password or key').click();
    await page.getByLabel('The address may lead into a private network').check();
    await page.getByRole('button', { name: 'Connect' }).click();
    await see('Node with npm');
  });

  it('shows what was recognised with a reason for each line, and mistakes at theirs', async () => {
    await see('the script `start` of package.json');
    await see('server.js listens on port 3000, whatever PORT says.');
    const editor = page.getByLabel('Definition');
    const text = await editor.inputValue();
    expect(text).toContain('start: node server.js');
    await editor.fill(text.replace('release:', 'relaese:'));
    await see(/`relaese` is not known here\. Did you mean `release`\?/);
    await editor.fill(text);
    await page.getByText(/is not known here/).waitFor({ state: 'detached' });
    expect(await violations(page)).toEqual([]);
  });

  it('asks for what its programs ask for, and says why the first try fails', async () => {
    expect(await page.getByLabel('Name of the project').inputValue()).toBe('lost-property');
    // What will be there, before anything is.
    const ahead = page.getByRole('region', { name: 'What will be there' });
    await ahead.getByText('what is pushed to main, by itself').waitFor();
    await ahead.getByText('one for each pull request').waitFor();
    await ahead.getByText('lost-property-staging.localhost').waitFor();
    await page.getByLabel('Name of the project').fill('found-things');
    await ahead.getByText('found-things-staging.localhost').waitFor();
    await page.getByLabel('Name of the project').fill('lost-property');
    await page.getByLabel('MAIL_KEY').fill('eleven more');
    await page.getByRole('button', { name: 'Add it and bring it live' }).click();
    await see(/web listens on 3000, it was given PORT=\d+/);
    await see('Listen on the port in the variable PORT.');
    expect(await violations(page)).toEqual([]);
  });

  it('shows the address when it is live, without a reload', async () => {
    const commit = await checkout.commitAndPush(
      { 'server.js': `${server('process.env.PORT')}process.env.OFFICE || 'lane';` },
      'Listen where it is told to',
    );
    await page.getByRole('button', { name: /Fetch the latest push/ }).click();
    await world.waitLive('lost-property', 'staging', commit);
    await page.getByRole('link', { name: /^lost-property-staging\.localhost/ }).waitFor();
    expect((await world.visit('lost-property-staging.localhost')).text).toBe('lane 11');
  });
});

describe('variables', () => {
  it('are set one by one; a secret is never shown again', async () => {
    await page.goto(`${world.url}/lost-property`);
    await see('Draft definition');
    await page.getByLabel('For', { exact: true }).click();
    await page.getByRole('option', { name: 'for staging' }).click();
    await page.getByLabel('Name', { exact: true }).fill('OFFICE');
    await page.getByLabel('Value', { exact: true }).fill('Mejima');
    await page.getByRole('button', { name: 'Set', exact: true }).click();
    await see('Mejima');
    await see('secret, not shown');
    expect(await page.content()).not.toContain('eleven more');
    expect(await violations(page)).toEqual([]);
  });

  it('are pasted whole, with what changes shown first', async () => {
    await page.getByRole('button', { name: 'Paste a .env' }).click();
    await page.getByLabel('A dotenv text').fill('OFFICE=Mejima\nEXTRA_TOKEN="abc def"\nEXTRA_TOKEN=twice\nBAD');
    await page.getByRole('button', { name: 'See what changes' }).click();
    await see(/line 4: `BAD` is no/);
    expect(await page.getByRole('button', { name: 'Save', exact: true }).count()).toBe(0);
    await page.getByLabel('A dotenv text').fill('OFFICE=Mejima\nEXTRA_TOKEN="abc def"\n');
    await page.getByRole('button', { name: 'See what changes' }).click();
    await see('new, a secret');
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByText('Remove', { exact: true }).nth(2).waitFor();
    await page.getByLabel('A dotenv text').waitFor({ state: 'detached' });
    expect(await page.content()).not.toContain('abc def');
  });

  it('wait for the next deployment, which is one act', async () => {
    await page.goto(`${world.url}/lost-property/staging`);
    await see('1 change waits:');
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: /Deploy r\d+ with these changes/ }).click();
    await page.getByText('1 change waits:').waitFor({ state: 'detached' });
    await until('it counts', async () => (await world.visit('lost-property-staging.localhost')).text === 'Mejima 11');
  });

  it('go with their project, which is renamed, paused and removed with what goes said first', async () => {
    await page.goto(`${world.url}/lost-property`);
    // What comes late moves what stands below it.
    await see('Draft definition');
    await see('nothing to run: all of it is reused');
    await page.getByText('Rename, pause, remove').click();
    await page.getByLabel('New name').fill('found-property');
    await page.getByRole('button', { name: 'Rename', exact: true }).click();
    await page.waitForURL(/\/found-property$/);
    await page.getByText('Rename, pause, remove').click();
    await page.getByRole('button', { name: 'Pause: pushes wait' }).click();
    await page.getByRole('button', { name: 'Resume' }).click();
    await page.getByRole('button', { name: 'Remove it …' }).click();
    await see(/Removing it also removes .*lost-property-staging\.localhost/);
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: 'Remove found-property' }).click();
    await see('There is no project yet');
    await until(
      'its address is gone',
      async () => (await world.visit('lost-property-staging.localhost')).status === 404,
    );
  });

  it('and where there is no repository yet, one that works is live in one step', async () => {
    await page.goto(`${world.url}/add`);
    await page.getByText('There is no repository yet').click();
    await page.getByLabel('Its name').fill('notice');
    await page.getByLabel('It begins with').click();
    await page.getByRole('option', { name: 'a site of files' }).click();
    await page.getByRole('button', { name: 'Begin', exact: true }).click();
    await see(/git clone http.*\/git\/notice/);
    await see('notice is added, with a first commit.');
    await page.getByRole('link', { name: /notice-staging\.localhost/ }).waitFor();
    expect(await violations(page)).toEqual([]);
    expect((await world.visit('notice-staging.localhost')).text).toContain('<h1>notice</h1>');
  });

  it('and definitions come to a project that is pushed here, too: added, proposed, kept, live', async () => {
    await page.goto(`${world.url}/add`);
    await page.getByText('I will push to Tsunagi directly').click();
    await page.getByLabel('Its name').fill('leaflet');
    await page.getByRole('button', { name: 'Add it', exact: true }).click();
    await see(/git push http.*\/git\/leaflet main/);
    const place = new Checkout(
      join(world.folder, 'leaflet'),
      `${world.url.replace('//', `//x:${world.house.token}@`)}/git/leaflet`,
    );
    await place.start();
    const commit = await place.commitAndPush({ 'index.html': '<h1>leaflet</h1>' }, 'Pages');
    await page.getByRole('link', { name: 'leaflet', exact: true }).click();
    await page.getByRole('button', { name: 'Propose one from what is in it' }).click();
    await see('what visitors may see; what is for developers is left out');
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: 'Keep it as the draft, and run' }).click();
    await see('Draft definition');
    await world.waitLive('leaflet', 'staging', commit);
    await page.getByRole('button', { name: 'Commit it' }).click();
    await page.getByText('Draft definition').waitFor({ state: 'detached' });
    expect((await world.visit('leaflet-staging.localhost')).text).toBe('<h1>leaflet</h1>');
  });

  it('show no mistake of the console', () => {
    expect(errors).toEqual([]);
  });
});
