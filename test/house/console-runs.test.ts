import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import type { LogChunk } from '../../src/wire/logs.js';
import type { RunDetail } from '../../src/wire/runs.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let browser: Browser;
let page: Page;
let checkout: Checkout;
const errors: string[] = [];

const definition = `tsunagi: 1
tasks:
  unit: { reads: [a.txt, test.sh], run: [echo begins, bash test.sh], results: out.xml }
  lint: { reads: [b.txt], run: cat b.txt }
  shaky: { reads: [b.txt], cache: [~/seen/], retry: 1, run: 'test -e ~/seen/x || { touch ~/seen/x; exit 3; }' }
`;
const script = `bad=$(grep -c low a.txt || true)
for n in $(seq 300); do echo "line $n of the price"; done
echo '<testsuite><testcase name="price" classname="board">'"$([ "$bad" = 0 ] || echo '<failure message="too low">at price.js:7</failure>')"'</testcase></testsuite>' > out.xml
if [ "$bad" != 0 ]; then echo "Error: the price is too low"; exit 1; fi
`;

beforeAll(async () => {
  world = await openWorld({ env: { TSUNAGI_LOG_LIMIT: '1000000' } });
  ({ checkout } = await world.hosted('sailings', {
    'a.txt': 'high',
    'b.txt': 'b',
    'test.sh': script,
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await ended(1);
  await checkout.commitAndPush({ 'a.txt': 'low' }, 'Lower the price');
  await ended(2);
  browser = await openBrowser();
  page = await signedIn(browser, world, errors);
  await page.getByText('What is live where').waitFor();
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
});

const ended = (number: number) =>
  until(`run ${number} has ended`, async () => {
    const run = await world.api().get<RunDetail>(`/api/projects/sailings/runs/${number}`);
    return run.endedAt ? run : null;
  });
const see = (text: string | RegExp) => page.getByText(text).first().waitFor();
const accessible = () => violations(page);

describe('a run that failed', () => {
  it('opens its log at the first error, says which tests are new and what has changed since the last pass', async () => {
    await page.goto(`${world.url}/sailings/runs/2`);
    await see('Error: the price is too low');
    await see('first error, line 302');
    await see('new: it did not fail before');
    await see('Since run 1 passed');
    await see('Lower the price');
    await page.getByText('reused, run 1').first().waitFor();
    expect(await accessible()).toEqual([]);
  });

  it('shows what its fingerprint is made of, and what differs', async () => {
    await page.getByText('Inputs', { exact: true }).click();
    await see('Since run 1 this differs, the first thing first:');
    await page
      .getByRole('region', { name: /^Task / })
      .getByText('a.txt', { exact: true })
      .first()
      .waitFor();
    expect(await accessible()).toEqual([]);
  });

  it('has a log that is searched, and lines that can be sent to a colleague', async () => {
    const search = page.getByLabel('Search in the log');
    await search.fill('LINE 12');
    await see('1 of 11');
    await search.press('Enter');
    await see('2 of 11');
    await search.press('Shift+Enter');
    await see('1 of 11');
    await search.fill('nothing of the kind');
    await see('no match');
    await search.fill('line 250 ');
    await page.getByRole('button', { name: '251', exact: true }).click();
    await page.waitForURL(/line=251/);
    await page.reload();
    await see('line 250 of the price');
    const saved = page.waitForEvent('download');
    await page.getByRole('link', { name: 'Save' }).click();
    expect(readFileSync((await (await saved).path()) as string, 'utf8')).toContain(
      'line 300 of the price\nError: the price is too low\n',
    );
  });

  it('shows each attempt of a task that was tried again', async () => {
    await page.goto(`${world.url}/sailings/runs/1?task=shaky`);
    await page.getByRole('button', { name: /attempt 1/ }).click();
    await see('exit 3');
    expect(page.url()).toContain('attempt=');
    await page.getByRole('button', { name: /attempt 2/ }).waitFor();
    await page.getByText(/flaky/).first().waitFor();
  });

  it('is run again: what failed, or all of it', async () => {
    await page.goto(`${world.url}/sailings/runs/2`);
    await page.getByRole('button', { name: 'Run again what failed' }).click();
    await page.waitForURL(/runs\/3/);
    expect((await ended(3)).taskList.map((task) => task.state)).toEqual(['failed', 'reused', 'passed']);
    await page.getByRole('button', { name: 'Run without reuse' }).click();
    await page.waitForURL(/runs\/4/);
    expect((await ended(4)).taskList.map((task) => task.state)).toEqual(['failed', 'passed', 'passed']);
  });
});

describe('a project', () => {
  it('says what its next run would do, of any branch, with the branch in the address', async () => {
    await page.goto(world.url);
    await page.getByRole('link', { name: 'sailings', exact: true }).click();
    await see('What a run would do');
    await see(/With the same inputs it failed in run/);
    await see('Newest runs');
    expect(await accessible()).toEqual([]);
    await page.getByLabel('Branch, commit or pull request').fill('nowhere');
    await page.keyboard.press('Enter');
    await page.waitForURL(/ref=nowhere/);
    await page.getByRole('alert').waitFor();
    await page.getByLabel('Branch, commit or pull request').fill('main');
    await page.keyboard.press('Enter');
    await see(/to run, \d reused|all of it is reused/);
    await page.emulateMedia({ colorScheme: 'dark' });
    expect(await accessible()).toEqual([]);
    await page.emulateMedia({ colorScheme: 'light' });
    await page.setViewportSize({ width: 390, height: 800 });
    expect(await page.evaluate('document.documentElement.scrollWidth')).toBeLessThanOrEqual(390);
    await page.setViewportSize({ width: 1280, height: 800 });
  });
});

describe('finding anything', () => {
  const open = async () => {
    await page.goto(world.url);
    await see('What is live where');
    await page.keyboard.press('/');
    await page.getByRole('combobox').waitFor();
  };
  it('goes to a run by the words of its commit, with the keys alone', async () => {
    await open();
    await page.keyboard.type('lower the');
    await page.getByRole('option', { name: /sailings run 2/ }).waitFor();
    expect(await accessible()).toEqual([]);
    await page.keyboard.press('ArrowDown');
    await page.keyboard.press('ArrowUp');
    await page.keyboard.press('Enter');
    await page.waitForURL(/\/sailings\/runs\/\d+/);
  });
  it('goes to a project by a click, finds commits and numbers, and says when there is nothing', async () => {
    await open();
    await page.keyboard.type('saili');
    await page.getByRole('option').first().click();
    await page.waitForURL(/\/sailings$/);
    const commit = (await world.api().get<RunDetail>('/api/projects/sailings/runs/1')).commit.id;
    for (const [text, found] of [
      [commit.slice(0, 8), /sailings run 1/],
      ['run 2', /sailings run 2/],
    ] as const) {
      await page.keyboard.press('/');
      await page.getByRole('dialog').getByRole('combobox').fill(text);
      await page.getByRole('option', { name: found }).waitFor();
      await page.keyboard.press('Escape');
    }
    await page.keyboard.press('/');
    await page.getByRole('dialog').getByRole('combobox').fill('zzz');
    await see(/Nothing matches/);
    await page.keyboard.press('Escape');
    expect(await page.getByRole('dialog').count()).toBe(0);
  });
  it('is refused to nobody who may look, and finds nothing of other projects for a token of one', async () => {
    await world.hosted('prices', { 'a.txt': 'x' });
    const token = await world
      .api()
      .post<{ token: string }>('/api/tokens', { name: 'one', role: 'viewer', project: 'prices' });
    const found = await world.api(token.token).get<{ items: { project: string }[] }>('/api/find?text=s');
    expect(new Set(found.items.map((one) => one.project))).toEqual(new Set(['prices']));
    expect((await world.api().get<{ items: unknown[] }>('/api/find?text=%25')).items).toEqual([]);
    // Eight digits are a number, and may be the beginning of a commit.
    expect((await world.api().get<{ items: unknown[] }>('/api/find?text=12345678')).items).toEqual([]);
  });
});

describe('a very long log', () => {
  it('is shown with its gap, and scrolls from end to end', async () => {
    await checkout.commit(
      { 'tsunagi.yaml': 'tsunagi: 1\ntasks:\n  loud: { reads: [a.txt], run: seq 500000 }\n' },
      'Half a million lines',
    );
    await checkout.push();
    await ended(5);
    await page.goto(`${world.url}/sailings/runs/5`);
    await see('500,000 lines');
    const box = page.getByRole('region', { name: 'Lines of the log' });
    await box.evaluate((node) => node.scrollTo(0, node.scrollHeight));
    await page.getByRole('button', { name: '500000', exact: true }).waitFor();
    await page.getByLabel('Search in the log').fill('are not kept');
    await box.evaluate((node) => node.scrollTo(0, 0));
    await page.getByRole('button', { name: '1', exact: true }).waitFor();
    const took = await box.evaluate(async (node) => {
      const began = performance.now();
      for (let at = 0; at < 40; at++) {
        node.scrollTo(0, (node.scrollHeight * at) / 40);
        await new Promise((resolve) => requestAnimationFrame(resolve));
      }
      return performance.now() - began;
    });
    expect(took).toBeGreaterThan(0);
    // The gap stands behind the head; rows are 20 px high.
    const attempt = (await ended(5)).taskList[0]?.attempts[0]?.id;
    let gap: LogChunk | undefined;
    for (let next: string | null = '0'; next !== null && !gap; ) {
      const part: { items: LogChunk[]; next: string | null } = await world
        .api()
        .get(`/api/attempts/${attempt}/log?from=${next}`);
      gap = part.items.find((chunk) => chunk.skipped);
      next = part.next;
    }
    const row = (gap?.firstLine ?? 0) - (gap?.skipped?.lines ?? 0);
    expect(row).toBeGreaterThan(1_000);
    await box.evaluate((node, top) => node.scrollTo(0, top), row * 20 - 100);
    await see(`${(gap?.skipped?.lines ?? 0).toLocaleString('en')} lines (`);
    await page.getByRole('button', { name: String(row), exact: true }).waitFor();
    await page.getByRole('button', { name: String((gap?.firstLine ?? 0) + 1), exact: true }).waitFor();
  });

  it('and everything before has made no error in the browser', () => {
    expect(errors).toEqual([]);
  });
});
