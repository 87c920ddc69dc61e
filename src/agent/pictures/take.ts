/**
 * Runs inside the sandbox: opens the pages of both sides in a browser, twice each, compares them, and lays down what was found:
 * `pictures/result.json` and `pictures/PAGE-FILE.png`. Pages are somebody else's: nothing of them is printed, and everything is bounded.
 */
import { mkdirSync, writeFileSync } from 'node:fs';
import { type BrowserContext, chromium } from 'playwright-core';
import { PNG } from 'pngjs';
import { type Bitmap, comparePages, framed, smallOf } from '../../core/pictures/compare.js';
import {
  mostPictureBytes,
  type Page,
  type PictureFile,
  type PicturePlan,
  type PictureSide,
  type Side,
  smallBy,
} from '../../core/pictures/pages.js';
import { pngSize } from '../../core/pictures/png.js';

const plan = JSON.parse(process.env.TSUNAGI_PICTURES ?? '{}') as PicturePlan;
/** Milliseconds for a page to be there, and then for it to become still. */
const loadMs = 20_000;
const stillMs = 3_000;
const folder = 'pictures';

interface Look {
  status: number | null;
  why: string | null;
  picture: Buffer | null;
}

/** A browser that knows one host alone: what a page of one side asks of anything else leads nowhere. */
async function opened<T>({ url, host, pass }: PictureSide, work: (context: BrowserContext) => Promise<T>): Promise<T> {
  const browser = await chromium.launch({
    executablePath: process.env.TSUNAGI_CHROMIUM ?? '/usr/bin/chromium',
    // The sandbox that this runs in is the stronger one, and leaves the browser no means to make its own.
    chromiumSandbox: false,
    args: [
      '--disable-gpu',
      '--force-device-scale-factor=1',
      // The first rule that fits counts.
      `--host-resolver-rules=MAP ${host} 127.0.0.1, MAP * ~NOTFOUND`,
    ],
    timeout: loadMs,
    // Nothing of what this program was told stands in the browser's own surroundings.
    env: { PATH: process.env.PATH, HOME: process.env.HOME, TMPDIR: process.env.TMPDIR },
  });
  try {
    const context = await browser.newContext({
      viewport: { width: plan.width, height: plan.windowHeight },
      locale: 'en-GB',
      timezoneId: 'UTC',
      reducedMotion: 'reduce',
      // The edge is beyond a door of this sandbox; nobody stands between.
      ignoreHTTPSErrors: true,
      serviceWorkers: 'block',
      acceptDownloads: false,
    });
    const secure = url.startsWith('https:');
    await context.addCookies([
      { name: secure ? '__Host-tsunagi-pass' : 'tsunagi-pass', value: pass, url, httpOnly: true, secure },
    ]);
    return await work(context);
  } finally {
    await browser.close();
  }
}

async function look(context: BrowserContext, url: string): Promise<Look> {
  const page = await context.newPage();
  page.on('dialog', (dialog) => void dialog.dismiss().catch(() => {}));
  try {
    const answer = await page.goto(url, { waitUntil: 'load', timeout: loadMs });
    await page.waitForLoadState('networkidle', { timeout: stillMs }).catch(() => {});
    const clip = { x: 0, y: 0, width: plan.width, height: plan.mostHeight };
    const picture = await page.screenshot({ fullPage: true, clip, animations: 'disabled', timeout: loadMs });
    const status = answer?.status() ?? null;
    const size = pngSize(picture);
    if (!size || size.width > plan.width || size.height > plan.mostHeight || picture.length > mostPictureBytes)
      return { status, why: 'its picture is too large', picture: null };
    return { status, why: null, picture };
  } catch (error) {
    const { name, message } = error as Error;
    const why = /ERR_NAME_NOT_RESOLVED/.test(message)
      ? 'it leads to another address'
      : name === 'TimeoutError'
        ? 'it was not there in time'
        : 'it could not be opened';
    return { status: null, why, picture: null };
  } finally {
    await page.close().catch(() => {});
  }
}

/** Each page twice; all of them once before the second time, so that there is time for what moves by itself. */
const looks = (visit: PictureSide): Promise<[Look, Look][]> =>
  opened(visit, async (context) => {
    const rounds: Look[][] = [];
    for (let round = 0; round < 2; round++) {
      const found: Look[] = [];
      for (const path of plan.pages) found.push(await look(context, visit.url + path));
      rounds.push(found);
    }
    return plan.pages.map((_, at) => [rounds[0]?.[at] as Look, rounds[1]?.[at] as Look]);
  });

const bitmap = (picture: Buffer): Bitmap => PNG.sync.read(picture);
const sideOf = ([one, two]: [Look, Look]): Side => {
  const bad = one.picture ? two : one;
  return { status: one.status, why: bad.picture ? null : bad.why };
};
const save = (page: number, file: PictureFile, bytes: Buffer): void =>
  writeFileSync(`${folder}/${page}-${file}.png`, bytes);
const drawn = ({ width, height, data }: Bitmap): Buffer => {
  const png = new PNG({ width, height });
  png.data = Buffer.from(data.buffer, data.byteOffset, data.byteLength);
  return PNG.sync.write(png);
};

async function main(): Promise<void> {
  mkdirSync(folder, { recursive: true });
  const after = await looks(plan.after);
  const before = plan.before ? await looks(plan.before) : null;
  const pages = plan.pages.map((path, at): Page => {
    const [own, other] = [after[at] as [Look, Look], before?.[at] ?? null];
    const page: Page = {
      path,
      after: sideOf(own),
      before: other && sideOf(other),
      share: null,
      restless: 0,
      areas: [],
    };
    const [a1, a2] = [own[0].picture, own[1].picture];
    const [b1, b2] = [other?.[0].picture, other?.[1].picture];
    if (a1) {
      save(at, 'after', a1);
    }
    if (b1) save(at, 'before', b1);
    if (a1 && a2 && b1 && b2) {
      const { share, restless, areas, marked } = comparePages([bitmap(b1), bitmap(b2)], [bitmap(a1), bitmap(a2)]);
      Object.assign(page, { share, restless, areas });
      save(at, 'marked', drawn(marked));
    }
    // In small, a frame must be seen, too.
    if (a1 && at === 0) save(at, 'small', drawn(smallOf(framed(bitmap(a1), page.areas, 2 * smallBy))));
    return page;
  });
  writeFileSync(`${folder}/result.json`, JSON.stringify({ pages }));
  console.log(`${pages.length} of ${plan.pages.length} pages looked at${plan.before ? ', both sides' : ''}.`);
}

main().then(
  () => process.exit(0),
  (error: Error) => {
    // What a browser says may hold what a page has written: its name is enough.
    console.error(`The browser could not do it: ${error.name}.`);
    process.exit(1);
  },
);
