/** What an open console costs while 200 tasks run: statements that its reading adds, for each event that is told. */
import { chromium } from 'playwright-core';
import { openCounted } from './counted.js';
import { type Bench, type Figure, figure } from './harness.js';
import { benchProject } from './project.js';
import { runOf } from './steps.js';

const tasks = 200;
const wait = 9_000;

export async function openConsole(bench: Bench): Promise<Figure[]> {
  const { records, now } = await openCounted(bench);
  const browser = await chromium.launch({
    executablePath: '/usr/bin/chromium',
    args: ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
  });
  const events = async () => Number((await records.query('select count(*) from events')).rows[0].count);
  const measured = async (round: number) => {
    const before = { ...(await now()), events: await events() };
    await runOf(bench, project, tasks, round, wait);
    return { statements: (await now()).statements - before.statements, events: (await events()) - before.events };
  };
  const project = await benchProject(bench, 'watched');
  try {
    await measured(20_000);
    const alone = await measured(20_001);
    const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
    await page.goto(`${bench.house.url}/sign-in`);
    await page.getByLabel('Token').fill(bench.house.token);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.waitForURL((url) => !url.pathname.startsWith('/sign-in'));
    let asked = 0;
    page.on('request', (request) => {
      if (new URL(request.url()).pathname.startsWith('/api/')) asked++;
    });
    const figures: Figure[] = [];
    for (const [at, [name, path]] of Object.entries({
      board: '/',
      'list of runs': '/runs?project=watched',
      run: '',
    }).entries()) {
      const number = Number((await records.query('select max(number) from runs')).rows[0].max) + 1;
      await page.goto(bench.house.url + (path || '/'));
      await page.waitForTimeout(1_000);
      asked = 0;
      const measuring = measured(20_002 + at);
      // A run has a page once it is recorded.
      if (!path) {
        await page.waitForTimeout(500);
        await page.goto(`${bench.house.url}/projects/watched/runs/${number}`);
      }
      const open = await measuring;
      if (asked === 0) throw new Error(`the console asked for nothing at the ${name}`);
      const each = Math.max(0, open.statements - alone.statements) / open.events;
      figures.push(
        figure(`statements an event, console open at the ${name}`, '', [each], [], {
          text: '≤ 2',
          met: (value) => value <= 2,
        }),
      );
    }
    return figures;
  } finally {
    await browser.close();
    await records.end();
  }
}
