/**
 * A stranger's pull request that tries all it can write and show: whatever it is called, prints, reports or serves is text at the console,
 * its pages can't hold the console or act there, and what it says of rules counts nowhere.
 */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Run } from '../../src/wire/runs.js';
import { openBrowser, signedIn } from './browser.js';
import { notified, startCodeHost } from './codehost.js';
import { type Checkout, openWorld, until, type World } from './world.js';

/** What would steer a terminal, or turn a line around. */
// biome-ignore lint/suspicious/noControlCharactersInRegex: that is what is looked for
const steers = /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/;

/** Runs wherever it is taken for anything but text. */
const evil = (place: string) =>
  `<img src=x onerror="window.caught='${place}'"><script>window.caught='${place}'</script>"'\`\u202egnp\u2066<b>${place}</b>`;
const server = (url: string) => `import { createServer } from 'node:http';
const pages = {
  '/ready': 'ready',
  '/frames': '<title>${evil('title').replaceAll("'", "\\'").replaceAll('\n', '')}</title><iframe src="${url}/" id="console"></iframe><object data="${url}/"></object>',
  '/acts': '<form id="f" method="post" action="${url}/api/projects/sailings/environments/staging/close"><input name="a"></form><script>' +
    'const told = []; const note = (name) => (answer) => told.push(name + " " + (answer.type ?? answer)); ' +
    'Promise.allSettled([fetch("${url}/api/me", { credentials: "include" }).then(note("read"), note("read")), ' +
    'fetch("${url}/api/projects/sailings/environments/staging/hold", { method: "POST", mode: "no-cors", credentials: "include", headers: { "content-type": "text/plain" }, body: "{}" }).then(note("write"), note("write"))' +
    ']).then(() => { window.told = told; document.title = "done"; });</script>',
  '/opens': '<script>window.child = window.open("${url}/"); setTimeout(() => { try { window.seen = window.child.document.title } catch (error) { window.seen = error.name } document.title = "done" }, 1500)</script>',
};
createServer((request, response) => {
  response.writeHead(pages[request.url] ? 200 : 404, { 'content-type': 'text/html', 'x-frame-options': 'ALLOWALL' }).end(pages[request.url] ?? 'nothing');
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = (url: string, { strangers = false } = {}) => `tsunagi: 1
tasks:
  unit:
    run: bash unit.sh
    results: report.xml
${strangers ? '    network: true\n' : ''}release:
  needs: [unit]
  parts:
    api: { kind: server, files: [server.js, package.json], start: node server.js, ready: /ready${strangers ? ', instances: 50, memory: 16G, cpu: 16' : ''} }
  resources: { timetable: { kind: postgres } }
  variables:
    DATABASE_URL: { from: timetable.url }
    SMS_KEY: { secret: true, about: key of the gateway, untrusted: stand-in }
environments:
  review: { for: pull requests${strangers ? ', access: open, idle: { sleep: never, close: never }, data: { timetable: { copy: staging } }' : ''} }
  staging: { branch: ${strangers ? 'evil' : 'main'}, scrub: { part: api, run: "${strangers ? 'true' : 'false'}" } }
${strangers ? '  production: { branch: evil }\n' : ''}# ${url}
`;
const files = (url: string) => ({
  'server.js': server(url),
  'package.json': '{ "type": "module" }\n',
  'unit.sh': `echo passed\necho '<testsuite><testcase name="one"/></testsuite>' > report.xml\n`,
  'tsunagi.yaml': definition(url),
});

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
let browser: Browser;
let console_: Page;
let pull: number;
let commit: string;
const errors: string[] = [];
const host = () => `pr-${pull}-sailings.untrusted.localhost`;

beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  let first: string;
  ({ checkout, first } = await notified(world, codehost, 'sailings', files(world.url)));
  await until('the definition counts', async () => (await world.events('type=definition.accepted')).length > 0);
  await world.api().post('/api/projects/sailings/variables', {
    environment: null,
    set: [{ name: 'SMS_KEY', value: 'the real key', secret: true }],
  });
  await world.waitLive('sailings', 'staging', first);
  await checkout.git('checkout', '-q', '-B', 'evil', 'main');
  const name = evil('test').replace(/[<>&"]/g, (one) => `&#${one.charCodeAt(0)};`);
  commit = await checkout.commit(
    {
      'unit.sh': `cat log.txt\ncp report.txt report.xml\n`,
      'log.txt': `${evil('log')}\n\u001b]0;${evil('bell')}\u0007\u001b[2J\u001b[31m<i>red</i>\u001b[0m\n\u001b]8;;javascript:window.caught='link'\u0007a link\u001b]8;;\u0007\n`,
      'report.txt': `<testsuite name="${name}"><testcase classname="${name}" name="${name}"/></testsuite>\n`,
      'tsunagi.yaml': definition(world.url, { strangers: true }),
    },
    evil('commit'),
  );
  await checkout.git('push', '-qf', 'origin', 'HEAD:refs/heads/evil');
  pull = (await codehost.openPull('sailings', { title: evil('pull'), branch: 'evil', trusted: false })).number;
  await until('its run waits for somebody', async () =>
    (await world.api().get<PageOf<Run>>('/api/runs?project=sailings&state=waiting')).items.find(
      (one) => one.pullRequest === pull,
    ),
  );
  browser = await openBrowser();
  console_ = await signedIn(browser, world, errors);
});
afterAll(async () => {
  await browser?.close();
  await codehost?.close();
  await world?.close();
});

/** Opens a page of the console, and says whether anything there ran, and whether the words stand there as text. */
async function opened(path: string, shows: string | null): Promise<void> {
  await console_.goto(world.url + path);
  if (shows) await console_.getByText(shows, { exact: false }).first().waitFor({ timeout: 15_000 });
  await console_.waitForTimeout(400);
  expect([path, await console_.evaluate('window.caught ?? null')]).toEqual([path, null]);
  expect([path, await console_.locator('img[src="x"]').count()]).toEqual([path, 0]);
  expect([path, await console_.locator('a[href^="javascript:"]').count()]).toEqual([path, 0]);
}

describe('what it is called', () => {
  it('is text before anybody has allowed anything', async () => {
    await opened('/reviews', "window.caught='pull'");
    await opened('/runs', "window.caught='commit'");
    await opened('/', null);
    const { out } = await world.cli('run', 'list', '--project', 'sailings');
    // Neither control characters nor what turns the line around reaches a terminal.
    expect(out).toContain("window.caught='commit'");
    expect(out).not.toMatch(steers);
  });
});

describe('what it asks for', () => {
  it('counts nowhere: the rules of main do', async () => {
    expect((await world.cli('run', 'allow', commit, '--project', 'sailings')).status).toBe(0);
    const run = await until('its run is over', async () =>
      (await world.api().get<PageOf<Run>>('/api/runs?project=sailings')).items.find(
        (one) => one.pullRequest === pull && one.endedAt !== null,
      ),
    );
    expect([run.state, run.issue]).toEqual(['passed', null]);
    const live = await world.waitLive('sailings', `pr-${pull}`, commit);
    expect([live.review?.outside, live.url.includes(host())]).toEqual([true, true]);
    expect(live.parts[0]?.size).toMatchObject({ instances: 1, memory: 256 * 1024 ** 2, cpu: 0.5 });
    // Its sleep and its end are those of main.
    expect(live.review?.sleepsAt).not.toBeNull();
    expect(live.review?.closesAt).not.toBeNull();
    const environments = await world.api().get<PageOf<{ name: string }>>('/api/projects/sailings/environments');
    expect(environments.items.map((one) => one.name).sort()).toEqual([`pr-${pull}`, 'staging']);
    // Its own word for scrub makes nothing of staging's data fit for it.
    const { copies } = await world.environment('sailings', 'staging');
    expect([copies?.permitted, copies?.scrub?.run]).toEqual([false, 'false']);
    expect(live.resources[0]?.origin).toBeNull();
    expect(JSON.stringify(live)).not.toContain('the real key');
  });
});

describe('what it prints and reports', () => {
  it('is text wherever it is shown', async () => {
    const [run] = (await world.api().get<PageOf<Run>>('/api/runs?project=sailings')).items.filter(
      (one) => one.pullRequest === pull,
    );
    await opened(`/sailings/runs/${run?.number}`, "window.caught='commit'");
    await console_
      .getByRole('link', { name: /unit/ })
      .or(console_.getByRole('button', { name: /unit/ }))
      .first()
      .click();
    await console_.getByText("window.caught='log'", { exact: false }).first().waitFor();
    await console_.waitForTimeout(400);
    expect(await console_.evaluate('window.caught ?? null')).toBeNull();
    expect(await console_.locator('a[href^="javascript:"]').count()).toBe(0);
    await opened(`/sailings/pr-${pull}`, "window.caught='pull'");
    await opened('/reviews', "window.caught='pull'");
    for (const command of [
      ['run', 'log', String(run?.number), 'unit', '--project', 'sailings'],
      ['run', 'show', String(run?.number), '--project', 'sailings'],
      ['review', 'list', '--project', 'sailings'],
    ]) {
      const { out } = await world.cli(...command);
      expect([command, steers.test(out)]).toEqual([command, false]);
    }
  });
});

describe('what it serves', () => {
  /** A page of its own, in the browser of somebody who is signed in at the console. */
  const visit = async (path: string): Promise<Page> => {
    const page = await console_.context().newPage();
    await page.goto(`http://${host()}:${world.house.edgePort}${path}`);
    return page;
  };

  it('can’t hold the console in a frame', async () => {
    const page = await visit('/frames');
    await page.waitForTimeout(2_000);
    const texts = await Promise.all(
      page.frames().map((frame) => frame.evaluate('document.body?.innerText ?? ""').catch(() => '')),
    );
    expect(texts.join(' ')).not.toMatch(/Board|sailings/);
    for (const frame of page.frames().slice(1)) expect(frame.url()).toMatch(/^chrome-error:|^about:/);
    await page.close();
    const answer = await fetch(world.url);
    expect(answer.headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
  });

  it('can neither read the console nor act there with the session of whoever looks', async () => {
    const before = await world.environment('sailings', 'staging');
    const page = await visit('/acts');
    await page.waitForFunction('document.title === "done"');
    const told = (await page.evaluate('window.told')) as string[];
    expect(told.find((one) => one.startsWith('read'))).not.toMatch(/basic|cors/);
    // A form is sent with the browser's own hands.
    await page.evaluate('document.getElementById("f").submit()');
    await page.waitForTimeout(1_000);
    const after = await world.environment('sailings', 'staging');
    expect([after.held, after.state]).toEqual([before.held, 'live']);
    expect(await page.content()).not.toMatch(/"state":"closing"/);
    await page.close();
  });

  it('sees nothing of a window that it has opened', async () => {
    const page = await visit('/opens');
    await page.waitForFunction('document.title === "done"', null, { timeout: 10_000 });
    expect(['SecurityError', 'TypeError']).toContain(await page.evaluate('window.seen'));
    await page.close();
  });

  it('has broken nothing of the console', () => expect(errors).toEqual([]));
});
