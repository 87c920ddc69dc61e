import { chromium } from 'playwright-core';
const code = process.argv[2];
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] });
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
await page.goto(`http://127.0.0.1:7780/sign-in#${code}`);
await page.waitForTimeout(1500);
const b = page.getByRole('button', { name: /sign in/i });
if (await b.count()) { await b.first().click(); await page.waitForTimeout(1500); }
const shot = async (path, name, wait = 2500) => {
  await page.goto(path.startsWith('http') ? path : `http://127.0.0.1:7780/${path}`);
  await page.waitForTimeout(wait);
  await page.screenshot({ path: `/tmp/shot-${name}.png` });
};
await shot('reviews', 'reviews');
await shot('sailings/pr-214', 'review', 3000);
await shot('', 'board');
await page.setViewportSize({ width: 390, height: 800 });
await shot('reviews', 'reviews-phone');
await page.setViewportSize({ width: 1280, height: 800 });
// the waking page: frozen for a moment
await page.route('**/_tsunagi/wake', (r) => r.request().method() === 'POST' ? r.abort() : r.fulfill({ json: { state: 'waking', queue: 0, issue: null } }));
await shot('http://pr-214-sailings.review.localhost:7781/api/departures', 'waking', 800);
await page.unroute('**/_tsunagi/wake');
await page.route('**/_tsunagi/wake', (r) => r.request().method() === 'POST' ? r.abort() : r.fulfill({ json: { state: 'asleep', queue: 0, issue: { says: 'api ended with 3 while it started: "there is no key for the gateway".', next: 'Push a fix, or look at its log.' } } }));
await shot('http://pr-214-sailings.review.localhost:7781/api/departures', 'waking-failed', 1200);
await page.unroute('**/_tsunagi/wake');
const began = Date.now();
await page.goto('http://pr-214-sailings.review.localhost:7781/api/departures');
await page.waitForFunction(() => !document.title.includes('wakes'), null, { timeout: 20000 });
console.log('awake after', Date.now() - began, 'ms');
await browser.close();
