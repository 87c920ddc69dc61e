import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import { type Browser, chromium, type Page } from 'playwright-core';
import type { World } from './world.js';

export const openBrowser = (): Promise<Browser> =>
  chromium.launch({
    executablePath: '/usr/bin/chromium',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });

/** A page of the owner; its errors are added to `errors`. */
export async function signedIn(browser: Browser, world: World, errors: string[]): Promise<Page> {
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => errors.push(error.message));
  await page.goto(`${world.url}/sign-in`);
  await page.getByLabel('Token').fill(world.house.token);
  await page.getByRole('button', { name: 'Sign in' }).click();
  return page;
}

const axe = readFileSync(createRequire(join(process.cwd(), 'package.json')).resolve('axe-core/axe.min.js'), 'utf8');

/** What breaks WCAG 2.2 AA on a page, as far as a program can tell. */
export async function violations(page: Page): Promise<string[]> {
  return (await page.evaluate(
    `(async () => { const module = { exports: {} }; ${axe}; const run = (typeof axe === 'object' ? axe : module.exports).run; const found = await run({ runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] }); return found.violations.map((one) => one.id + ': ' + one.nodes.map((node) => node.target.join(' ')).join(', ')); })()`,
  )) as string[];
}
