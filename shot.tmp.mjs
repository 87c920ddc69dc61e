import { chromium } from 'playwright-core';
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] });
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
await page.goto('http://127.0.0.1:7780/sign-in#tsc_2teqQSqLuHlqEH7Gw96q2yF7VEUxnSUJ1IbmcYYAFF0');
await page.waitForTimeout(1500);
const b = page.getByRole('button', { name: /sign in/i });
if (await b.count()) {
  await b.first().click();
  await page.waitForTimeout(1500);
}
await page.goto('http://127.0.0.1:7780/sailings/production/resources');
await page.waitForTimeout(2500);
await page.screenshot({ path: '/tmp/resources.png' });
await page.goto('http://127.0.0.1:7780/new');
await page.waitForTimeout(1000);
await page.goto('http://127.0.0.1:7780/');
await page.waitForTimeout(1000);
await page
  .getByRole('link', { name: /Add a project|From a repository/ })
  .first()
  .click();
await page.getByLabel('Address of the repository').fill('http://127.0.0.1:34863/lost-property.git');
await page.getByText('It needs a password or key').click();
await page.getByLabel('The address may lead into a private network').check();
await page.getByRole('button', { name: 'Connect' }).click();
await page.waitForTimeout(3500);
await page.screenshot({ path: '/tmp/guide.png', fullPage: true });
await browser.close();
