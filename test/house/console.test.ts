import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, BrowserContext, Page } from 'playwright-core';
import { openBrowser, violations } from './browser.js';
import { app, appDefinition, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let browser: Browser;
let context: BrowserContext;
let page: Page;
let checkout: Checkout;
const errors: string[] = [];
const shots = process.env.SHOTS;

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('shop', { ...app('one'), 'tsunagi.yaml': appDefinition }));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
  await world.cli('promote', '--to', 'shop/production');
  const second = await checkout.commitAndPush(app('two'), 'The second one');
  await world.waitLive('shop', 'staging', second);
  browser = await openBrowser();
  context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  page = await context.newPage();
  page.on('pageerror', (error) => errors.push(error.message));
  page.on(
    'console',
    (message) => message.type() === 'error' && !message.text().includes('status of 401') && errors.push(message.text()),
  );
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
});

const see = (text: string | RegExp) => page.getByText(text).first().waitFor();
const accessible = () => violations(page);

/**
 * In the page: what can be pressed, is in sight, and is not met 11 px beside its middle (WCAG 2.2, 2.5.8), and what of navigation,
 * history and the times of a run is cut off at the right.
 */
const outOfReach = `[...document.querySelectorAll('a, button, summary')].flatMap((one) => {
  const { left, right, top, bottom, width, height } = one.getBoundingClientRect();
  if (width === 0 || top < 12 || bottom > innerHeight - 12 || left < 12 || right > innerWidth - 12) return [];
  const [x, y] = [left + width / 2, top + height / 2];
  const met = ([dx, dy]) => one.contains(document.elementFromPoint(x + dx, y + dy));
  return [[-11, 0], [11, 0], [0, -11], [0, 11]].every(met) ? [] : [one.textContent];
}).concat([...document.querySelectorAll('nav a, [aria-label=History] td, [data-row] > *')].flatMap((one) =>
  one.getBoundingClientRect().right > 390 ? [one.textContent] : []))`;

describe('the console', () => {
  it('leads to the sign-in, and back to where one wanted to go', async () => {
    await page.goto(`${world.url}/shop/staging`);
    await page.getByLabel('Token').fill('tsu_wrong');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await see('The token is not known, has expired or was removed.');
    await page.getByLabel('Token').fill(world.house.token);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await see('staging runs r2');
    errors.length = 0;
  });

  it('takes a one-time sign-in from the address', async () => {
    const other = await browser.newContext();
    const fresh = await other.newPage();
    await fresh.goto(`${world.url}/sign-in#${await world.house.signIn()}`);
    await fresh.getByText('What is live where').waitFor();
    expect(fresh.url()).not.toContain('tsc_');
    await other.close();
  });

  it('shows on the board what is live where, and what waits', async () => {
    await page.goto(world.url);
    await see('What is live where');
    await see('1 push waits');
    expect(await page.getByRole('link', { name: 'Promote r2' }).isVisible()).toBe(true);
    expect(await page.getByText('3 of 3 instances').count()).toBe(2);
  });

  it('changes live while a commit is pushed', async () => {
    const third = await checkout.commitAndPush(app('three'), 'The third one');
    await see('The third one');
    await world.waitLive('shop', 'staging', third);
    await see('Promote r3');
    await see('2 pushes wait');
  });

  it('promotes on one page: evidence, commits, one sentence, one act', async () => {
    await page.getByRole('link', { name: 'Promote r3' }).click();
    await see(
      'r3, the same bytes that staging has verified, takes all traffic of shop/production in one step; r1 stays warm for 15 min, ready for a revert.',
    );
    await see('verified in staging');
    await see('The second one');
    await page.getByRole('button', { name: 'Promote r3' }).click();
    await see('production runs r3');
    expect(JSON.parse((await world.visit('shop-production.localhost', '/api')).text).text).toBe('three');
  });

  it('reverts, undoes that, holds, and lifts', async () => {
    const back = async (why: string) => {
      await page.getByRole('button', { name: 'Revert to r1' }).click();
      await see('What it does not undo');
      await page.getByRole('textbox', { name: 'Why' }).fill(why);
      expect(await accessible()).toEqual([]);
      await page.getByRole('button', { name: 'Go back to r1' }).click();
      await see('production runs r1');
      await see(why);
    };
    await back('the tides are wrong');
    await page.getByRole('button', { name: 'Undo the revert' }).click();
    await see('production runs r3');
    // The hold is as it was before.
    await page.getByRole('button', { name: 'Hold', exact: true }).waitFor();
    expect(JSON.parse((await world.visit('shop-production.localhost', '/api')).text).text).toBe('three');
    await back('they are wrong all the same');
    expect(JSON.parse((await world.visit('shop-production.localhost', '/api')).text).text).toBe('one');
    await page.getByRole('button', { name: 'Lift the hold' }).click();
    await page.getByRole('button', { name: 'Hold', exact: true }).click();
    await page.getByRole('textbox', { name: 'Why' }).fill('the pier is closed');
    expect(await accessible()).toEqual([]);
    await page.getByRole('button', { name: 'Hold it' }).click();
    await see(/the pier is closed \(.*\): takes nothing new/);
    await page.getByRole('button', { name: 'Lift the hold' }).click();
    await page.getByRole('button', { name: 'Hold', exact: true }).waitFor();
    await page
      .getByRole('button', { name: /^api 1/ })
      .or(page.getByRole('button', { name: /bell 1/ }))
      .first()
      .click();
    await page.getByRole('region', { name: 'Lines of the log' }).waitFor();
  });

  it('shows what a release is: its parts, where it was, its evidence, and a file of it', async () => {
    await page.goto(`${world.url}/shop/production`);
    await page.getByRole('link', { name: 'r1', exact: true }).first().click();
    await page.waitForURL(/\/shop\/releases\/1$/);
    await see('live in production');
    const section = (name: string) => page.getByRole('region', { name });
    for (const part of ['page', 'api', 'bell'])
      await section('What is in it').getByText(part, { exact: true }).waitFor();
    await section('Where it is and was').getByText('live, revert by owner').waitFor();
    await section('Evidence').getByText('verified there').waitFor();
    expect(await accessible()).toEqual([]);
    const saved = page.waitForEvent('download');
    await page.getByRole('link', { name: 'Download shop-r1.tar' }).click();
    const file = join(world.folder, 'shop-r1.tar');
    await (await saved).saveAs(file);
    const keys = join(world.folder, 'keys.json');
    writeFileSync(keys, (await world.cli('key', 'list', '--json')).out);
    expect((await world.cli('release', 'verify', file, '--key', keys)).out).toMatch(/shop r1 is whole/);
    await page.getByRole('link', { name: 'run 1' }).click();
    await page.waitForURL(/\/shop\/runs\/1$/);
  });

  it('opens a failed run at its first error, with commands and tests', async () => {
    const files = {
      'tsunagi.yaml': `tsunagi: 1\ntasks:\n  fine: { reads: [], run: seq 3 }\n  broken:\n    reads: []\n    run: [echo before, "seq 500; echo 'Error: the door is shut'; seq 500; echo '<testsuite name=\\"ramp\\"><testcase name=\\"lowers\\"><failure message=\\"it is up\\"/></testcase></testsuite>' > r.xml; exit 4"]\n    results: r.xml\n`,
    };
    const commit = await checkout.commitAndPush(files, 'Breaks <b>bold</b>', 'broken');
    const run = await world.waitRun('shop', commit);
    await page.goto(`${world.url}/shop/runs/${run.number}`);
    await see('Breaks <b>bold</b>');
    await see('exit 4');
    await see('it is up');
    await see('Error: the door is shut');
    await see('first error');
    await page.getByRole('button', { name: /fine/ }).click();
    await page.waitForURL(/task=fine/);
    await see('seq 3');
    await page.goBack();
  });

  it('streams a live log, and stops a run', async () => {
    await checkout.commitAndPush(
      {
        'tsunagi.yaml': `tsunagi: 1\ntasks:\n  slow: { reads: [], run: "for i in $(seq 100); do echo price $i; sleep 0.1; done" }\n`,
      },
      'Slow price',
      'slow',
    );
    await page.goto(`${world.url}/runs`);
    await page
      .getByRole('row', { name: /Slow price/ })
      .getByRole('link')
      .click();
    await see('price 3');
    await page.getByRole('button', { name: 'Stop' }).click();
    await see('It was stopped by owner.');
  });

  it('keeps filters in the address, and goes by keys', async () => {
    await page.goto(`${world.url}/runs?state=failed`);
    await see('Breaks <b>bold</b>');
    expect(await page.getByText('The third one').count()).toBe(0);
    await page.getByRole('button', { name: 'stopped', exact: true }).click();
    await page.waitForURL(/state=stopped/);
    await see('Slow price');
    await page.keyboard.press('g');
    await page.keyboard.press('b');
    await see('What is live where');
    await page.keyboard.press('j');
    expect(await page.evaluate('document.activeElement.hasAttribute("data-row")')).toBe(true);
    await page.keyboard.press('?');
    await see('down and up in a list');
    await page.keyboard.press('Escape');
  });

  it('shows where one is signed in, and ends a session elsewhere', async () => {
    const other = await browser.newContext();
    const fresh = await other.newPage();
    await fresh.goto(`${world.url}/sign-in#${await world.house.signIn()}`);
    await fresh.getByText('What is live where').waitFor();
    await page.getByRole('link', { name: /where you are signed in/ }).click();
    await see('this one');
    // The newest stands first; the page's own has no such button.
    await page.getByRole('button', { name: 'End' }).first().click();
    await fresh.getByLabel('Token').waitFor();
    await page.goto(`${world.url}/you`);
    await see('this one');
    await other.close();
  });

  it('says when the connection is lost, and goes on by itself', async () => {
    await page.goto(world.url);
    await see('What is live where');
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    await see('The connection is lost');
    await until('it is restored', async () => (await page.getByText('The connection is lost').count()) === 0);
  });

  it.each(['light', 'dark'] as const)('is accessible in the %s theme, on each page', async (theme) => {
    await page.evaluate(`localStorage.setItem('theme', '${theme}')`);
    for (const path of [
      '/',
      '/runs',
      '/shop/runs/1',
      '/shop/production',
      '/shop/production/promote',
      '/you',
      '/sign-in',
    ]) {
      await page.goto(world.url + path);
      await page.getByRole('heading').first().waitFor();
      await page.waitForTimeout(300);
      expect([path, await accessible()]).toEqual([path, []]);
      if (shots) {
        mkdirSync(shots, { recursive: true });
        await page.screenshot({ path: join(shots, `${theme}${path.replaceAll('/', '-')}.png`) });
      }
    }
  });

  it('works on a phone: nothing is wider than the page', async () => {
    await page.setViewportSize({ width: 390, height: 844 });
    for (const path of [
      '/',
      '/runs',
      '/shop/runs/1',
      '/shop/releases/1',
      '/shop/production',
      '/shop/production/history',
      '/you',
    ]) {
      await page.goto(world.url + path);
      await page.getByRole('heading').first().waitFor();
      await page.waitForTimeout(200);
      expect([path, await page.evaluate('document.documentElement.scrollWidth')]).toEqual([path, 390]);
      expect([path, await page.evaluate(outOfReach)]).toEqual([path, []]);
    }
    await page.setViewportSize({ width: 1280, height: 800 });
  });

  it('has had no error of its own', () => {
    const own = errors.filter(
      (one) =>
        !/ERR_CONNECTION_REFUSED|ERR_INCOMPLETE|ERR_EMPTY_RESPONSE|ERR_CONNECTION_RESET|status of 50\d/.test(one),
    );
    expect(own).toEqual([]);
  });
});
