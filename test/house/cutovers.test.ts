/** Traffic that moves in steps, on a whole house: visitors stay on one side, what is worse goes back by itself, people say stay, go on, back. */
import { request } from 'node:http';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { AlertPage } from '../../src/wire/alerts.js';
import type { Cutover } from '../../src/wire/environments/cutover.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { erring } from './erring.js';
import { type Checkout, noteRoom, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const host = 'pier-production.localhost';

const server = erring('/api/ready');
const definition = (production: string) => `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web, at: / }
    api: { kind: server, files: [package.json, server.js], start: node server.js, at: /api, ready: /api/ready }
environments:
  staging: { branch: main }
  production: { after: staging, ${production} }
`;
const page = (text: string) => ({
  'web/index.html': `<script src="/assets/app-${text}.js"></script>\n`,
  [`web/assets/app-${text}.js`]: `document.title = '${text}'\n`,
});

beforeAll(async () => {
  world = await openWorld({ timing: { warm: 20_000, few: 2_000 } });
  let first: string;
  ({ checkout, first } = await world.hosted('pier', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server('one'),
    ...page('one'),
    'tsunagi.yaml': definition('cutover: [20% for 10s, 50% for 10s], guard: { errors: 5% }'),
  }));
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
  const { number } = await world.act('pier', 'production', { kind: 'promote' });
  expect((await world.waitDeployment('pier', number)).state).toBe('live');
});
afterAll(() => world?.close());

/** Somebody with a browser of their own. */
class Somebody {
  cookie = '';
  ask(path = '/api', headers: Record<string, string> = {}): Promise<{ status: number; text: string }> {
    return new Promise((resolve, reject) => {
      const call = request(
        {
          host: '127.0.0.1',
          port: world.house.edgePort,
          path,
          headers: { host, ...(this.cookie ? { cookie: this.cookie } : {}), ...headers },
          agent: false,
        },
        (answer) => {
          const [set] = answer.headers['set-cookie'] ?? [];
          if (set) this.cookie = set.split(';')[0] as string;
          let text = '';
          answer.on('data', (chunk: Buffer) => (text += chunk.toString()));
          answer.on('end', () => resolve({ status: answer.statusCode ?? 0, text }));
          answer.on('error', reject);
        },
      );
      call.on('error', reject);
      call.end();
    });
  }
}
const crowd = (count: number) => Array.from({ length: count }, () => new Somebody());

const cutover = () => world.api().get<Cutover>('/api/projects/pier/environments/production/cutover');
const inStep = (share: number) =>
  until(`the new release has ${share}`, async () => {
    const one = await cutover().catch(() => null);
    return one?.share === share && one.deployment.state === 'cutover' && one;
  });
/** A new release that is live in staging, and on its way to production. */
async function promote(files: Record<string, string>, title: string) {
  const commit = await checkout.commitAndPush(files, title);
  const { live } = await world.waitLive('pier', 'staging', commit);
  return world.act('pier', 'production', { kind: 'promote', release: live?.release as number });
}
/** Asks on and on until the returned function is called; what was answered is counted. */
function traffic(people: Somebody[]) {
  const seen = { answers: 0, lost: 0, errors: 0 };
  let going = true;
  const run = (async () => {
    while (going) {
      for (const one of people) {
        const answer = await one.ask().catch(() => null);
        if (!answer) seen.lost++;
        else {
          seen.answers++;
          if (answer.status >= 500) seen.errors++;
        }
        if (!going) return;
      }
    }
  })();
  return {
    seen,
    stop: async () => {
      going = false;
      await run;
    },
  };
}

describe('traffic that moves in steps', () => {
  it('goes from share to share; a visitor stays on one side, and finds the files of a page that is open', async () => {
    const early = new Somebody();
    await early.ask('/', { accept: 'text/html' });
    expect(early.cookie).toBe('');
    const { number } = await promote(
      { 'server.js': server('two'), ...page('two'), 'web/assets/app-one.js': '' },
      'Two',
    );
    const one = await inStep(0.2);
    expect(one.steps.map(({ at, share }) => [at, share])).toEqual([
      ['share', 0.2],
      ['share', 0.5],
      ['all', 1],
    ]);
    expect(one.beside?.release).toBe(1);
    const people = crowd(60);
    const sides = new Map<Somebody, string>();
    for (const each of people) sides.set(each, (await each.ask()).text);
    const above = [...sides.values()].filter((text) => text === 'two').length;
    expect(above).toBeGreaterThan(1);
    expect(above).toBeLessThan(30);
    for (const each of people) expect((await each.ask()).text).toBe(sides.get(each));
    // The page that was opened before has its script, whichever side answers.
    for (const each of [early, ...people.slice(0, 20)])
      for (const name of ['one', 'two']) expect((await each.ask(`/assets/app-${name}.js`)).status).toBe(200);
    expect(people[0]?.cookie).toMatch(/^tsunagi-visitor=\d{1,4}\.[\w-]{22}$/);
    // Whatever somebody writes into it is no number of ours.
    const liar = new Somebody();
    liar.cookie = 'tsunagi-visitor=0.AAAAAAAAAAAAAAAAAAAAAA';
    await liar.ask();
    expect(liar.cookie).not.toContain('=0.AAAA');
    await inStep(0.5);
    for (const each of people) {
      const { text } = await each.ask();
      // Who saw the new one at first stays there.
      if (sides.get(each) === 'two') expect(text).toBe('two');
    }
    expect((await world.waitDeployment('pier', number)).state).toBe('live');
    for (const each of people.slice(0, 10)) expect((await each.ask()).text).toBe('two');
    const shares = await world.events('type=traffic.shared');
    expect(shares.map(({ data }) => data.share)).toEqual([0.5, 0.2]);
  });

  it('goes back by itself at the first sign that the new one is worse, and says what it was', async () => {
    const { number } = await promote({ 'server.js': server('bad', 0.4) }, 'Bad');
    await inStep(0.2);
    const flow = traffic([...crowd(40), ...crowd(1)]);
    const ended = await world.waitDeployment('pier', number);
    await flow.stop();
    expect(ended).toMatchObject({ state: 'failed', failure: { code: 'cutover_worse' } });
    expect(ended.failure?.says).toMatch(
      /^r\d+ fared worse: errors of api.*, (met by|in) \d+ of \d+ \(\d+ %\), against/,
    );
    expect(flow.seen.lost).toBe(0);
    expect(flow.seen.errors).toBeLessThan(flow.seen.answers / 5);
    const environment = await world.environment('pier', 'production');
    expect([environment.live?.release, environment.held?.by]).toEqual([2, 'engine']);
    expect(environment.held?.why).toContain('fared worse');
    const people = crowd(20);
    for (const each of people) expect((await each.ask()).text).toBe('two');
    await world.cli('lift', 'pier/production');
  });

  it('stays, goes on and goes back as people say, and not by what they have not seen', async () => {
    const { number } = await promote({ 'server.js': server('three') }, 'Three');
    const first = await inStep(0.2);
    const { out } = await world.cli('cutover', 'pier/production', '--stay');
    expect(out).toMatch(/r4 takes 20 % of the traffic[\s\S]*said: stay/);
    // Longer than its time.
    await new Promise((resolve) => setTimeout(resolve, 11_500));
    expect(await cutover()).toMatchObject({ share: 0.2, ordered: { order: 'stay' }, stepLeftMs: null });
    expect((await world.cli('cutover', 'pier/production', '--go-on')).out).toContain('r4 takes');
    const second = await inStep(0.5);
    expect(second).toMatchObject({ stage: first.stage + 1, ordered: null });
    const late = await world.api().raw('POST', '/api/projects/pier/environments/production/cutover', {
      body: { order: 'go on', stage: first.stage },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(late.body.code).toBe('cutover_moved');
    await world.cli('cutover', 'pier/production', '--back');
    expect(await world.waitDeployment('pier', number)).toMatchObject({
      state: 'failed',
      failure: { code: 'cutover_back' },
    });
    // It may be watched still; nothing moves.
    const none = await world.api().raw('POST', '/api/projects/pier/environments/production/cutover', {
      body: { order: 'stay' },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(none.body.code).toBe('cutover_none');
    for (const each of crowd(10)) expect((await each.ask()).text).toBe('two');
  });

  it('moves no further than the rules allow, and on when they do', async () => {
    const { number } = await promote({ 'server.js': server('four') }, 'Four');
    await inStep(0.2);
    const until = new Date(Date.now() + 3_600_000).toISOString();
    await world.api().post('/api/projects/pier/environments/production/freeze', { why: 'storm', until });
    await world.cli('cutover', 'pier/production', '--go-on');
    const waits = await untilWaits();
    expect(waits.waits?.says).toMatch(/rules of pier\/production were not met any more.*storm/);
    expect(waits.share).toBe(0.2);
    await world.cli('lift', 'pier/production', '--freeze');
    // What was said before still counts.
    await inStep(0.5);
    // Through a service that dies in the middle of it.
    const note = noteRoom(world, 'service');
    writeFileSync(join(world.folder, 'crash-at'), `deployment.cutover:after ${note.path}\n`);
    expect((await world.waitDeployment('pier', number)).state).toBe('live');
    note.stop();
    for (const each of crowd(10)) expect((await each.ask()).text).toBe('four');
  });

  it('is reverted by hand while both have a share, and what served goes on', async () => {
    const { number } = await promote({ 'server.js': server('five') }, 'Five');
    await inStep(0.2);
    const flow = traffic(crowd(5));
    expect(await world.cli('revert', 'pier/production')).toMatchObject({
      status: 0,
      out: expect.stringContaining('keeps the traffic'),
    });
    expect(await world.waitDeployment('pier', number)).toMatchObject({ state: 'failed' });
    await flow.stop();
    expect([flow.seen.lost, flow.seen.errors]).toEqual([0, 0]);
    for (const each of crowd(10)) expect((await each.ask()).text).toBe('four');
    await world.cli('lift', 'pier/production');
  });

  it('goes back after its last step, too, as long as the old servers are warm', async () => {
    const commit = await checkout.commitAndPush(
      { 'server.js': server('six', 0.5), 'tsunagi.yaml': definition('guard: { errors: 5% }') },
      'Six, all at once',
    );
    const { live } = await world.waitLive('pier', 'staging', commit);
    const before = (await world.environment('pier', 'production')).live?.release;
    const asked = await world.act('pier', 'production', { kind: 'promote', release: live?.release as number });
    expect((await world.waitDeployment('pier', asked.number)).state).toBe('live');
    const flow = traffic(crowd(10));
    const back = await until('it has gone back', async () => {
      const one = await world.environment('pier', 'production');
      return one.live?.release === before && one.moving === null && one;
    });
    await flow.stop();
    expect(flow.seen.lost).toBe(0);
    expect([back.held?.by, back.live?.kind]).toEqual(['engine', 'revert']);
    expect(back.held?.why).toContain('the bound of 5 %');
    expect(back.history.find(({ release }) => release === live?.release)?.state).toBe('reverted');
  });
});

const untilWaits = () =>
  until('it says why it waits', async () => {
    const one = await cutover();
    return one.waits !== null && one;
  });

describe('too little traffic', () => {
  it('holds a share until somebody decides, where the definition says so; that is told', async () => {
    await world.cli('lift', 'pier/production');
    const { number } = await promote(
      {
        'server.js': server('few'),
        'tsunagi.yaml': definition('cutover: [50% for 10s], guard: { errors: 5%, few: wait }'),
      },
      'Few',
    );
    const one = await untilWaits();
    expect(one.waits?.says).toMatch(/^For 2\.0 s there was too little traffic on r\d+ to judge it by\.$/);
    expect(one.waits?.next).toContain('`tsunagi cutover pier/production --go-on`');
    await until('it is told', async () =>
      (await world.api().get<AlertPage>('/api/alerts')).wrong.some(
        (wrong) => wrong.topic === 'cutover-waits' && wrong.place === 'pier/production' && wrong.of === `d${number}`,
      ),
    );
    expect((await world.cli('cutover', 'pier/production')).out).toContain(one.waits?.says);
    await world.cli('cutover', 'pier/production', '--go-on');
    expect((await world.waitDeployment('pier', number)).state).toBe('live');
  });
});

describe('a split', () => {
  it('gives both their share until somebody ends it', async () => {
    await world.cli('lift', 'pier/production');
    const before = (await world.environment('pier', 'production')).live?.release as number;
    const commit = await checkout.commitAndPush(
      { 'server.js': server('both'), 'tsunagi.yaml': definition('guard: { errors: 5% }') },
      'Split',
    );
    const release = (await world.waitLive('pier', 'staging', commit)).live?.release as number;
    const between = (a: number, b: number, share = '60,40') =>
      world.cli('split', 'pier/production', '--between', `r${a},r${b}`, '--share', share);
    expect((await between(1, release)).err).toContain(`r${before} is live, not r1`);
    expect((await between(before, release, '60,60')).err).toContain('no share of two');
    const { out } = await between(before, release);
    const number = Number(/^d(\d+)/.exec(out)?.[1]);
    const one = await inStep(0.4);
    expect(one).toMatchObject({ split: true, better: null, stepLeftMs: null, leftMs: null });
    expect(one.steps.map(({ ms }) => ms)).toEqual([null, null]);
    const texts = new Set<string>();
    for (const each of crowd(40)) texts.add((await each.ask()).text);
    expect(texts.size).toBe(2);
    expect((await world.cli('cutover', 'pier/production')).out).toContain('none of the two has shown a sign');
    // Whoever is let sees one side, by a header or a link; whatever else somebody writes there leads nowhere.
    const look = await world.cli('cutover', 'pier/production', '--first-look');
    const header = /^Tsunagi-Release: (\S+)$/m.exec(look.out)?.[1] as string;
    const link = new URL(/^http\S+$/m.exec(look.out)?.[0] as string);
    for (let time = 0; time < 10; time++) {
      expect((await new Somebody().ask('/api', { 'tsunagi-release': header })).text).toBe('both');
      const guest = new Somebody();
      expect((await guest.ask(`${link.pathname}${link.search}`)).status).toBe(303);
      expect((await guest.ask()).text).toBe('both');
    }
    const other = `r${before}${header.slice(header.indexOf('.'))}`;
    const seen = new Set<string>();
    for (let time = 0; time < 40; time++)
      seen.add((await new Somebody().ask('/api', { 'tsunagi-release': time % 2 ? other : `r${release}` })).text);
    expect(seen.size).toBe(2);
    expect((await new Somebody().ask(`${link.pathname}?${other}`)).status).toBe(404);
    await world.cli('cutover', 'pier/production', '--go-on');
    expect((await world.waitDeployment('pier', number)).state).toBe('live');
    for (const each of crowd(10)) expect((await each.ask()).text).toBe('both');
  });
});

describe('in the console', () => {
  it('a share for as long as wanted is asked for, seen with both sides’ figures, held, and taken back', async () => {
    const live = (await world.environment('pier', 'production')).live?.release as number;
    const commit = await checkout.commitAndPush({ 'server.js': server('by hand') }, 'By hand');
    const release = (await world.waitLive('pier', 'staging', commit)).live?.release as number;
    const browser = await openBrowser();
    const errors: string[] = [];
    const flow = traffic(crowd(20));
    try {
      const page = await signedIn(browser, world, errors);
      await page.getByText('Board').first().waitFor();
      await page.goto(`${world.url}/pier/production/promote`);
      await page.getByText('A share for as long as wanted').click();
      await page.getByLabel(`Share of r${release}`).click();
      await page.getByRole('option', { name: '20 %' }).click();
      expect(await violations(page)).toEqual([]);
      await page.getByRole('button', { name: `Split between r${live} and r${release}` }).click();
      await inStep(0.2);
      await page.getByRole('link', { name: 'How the traffic moves' }).click();
      await page.getByRole('heading', { name: `r${release} takes 20 % of the traffic` }).waitFor();
      await page.getByText('none does better, as far as can be seen').waitFor();
      expect(await page.getByRole('button', { name: 'Stay at 20 %' }).count()).toBe(0);
      expect(await violations(page)).toEqual([]);
      await page.getByRole('button', { name: `Back to r${live}` }).click();
      await until('it is back', async () => (await world.environment('pier', 'production')).moving === null);
      expect(flow.seen).toMatchObject({ lost: 0, errors: 0 });
      for (const each of crowd(10)) expect((await each.ask()).text).toBe('both');
      expect(errors).toEqual([]);
    } finally {
      await flow.stop();
      await browser.close();
      await world.cli('lift', 'pier/production');
    }
  });
});

describe('a mirror', () => {
  const told = async (number: number) =>
    until(`copies for d${number} are compared`, async () => {
      const one = await cutover();
      return one.deployment.number === number && (one.mirrored?.compared ?? 0) > 20 && one;
    });
  const mirrored = (same: string) =>
    definition(`cutover: [mirror for 60s, 50% for 10s], mirror: { paths: [/api/own/], same: [${same}] }`);

  it('copies what is safe to the new release, and nobody sees what that answers', async () => {
    await world.cli('lift', 'pier/production');
    // It tells what it was asked, so that one can look.
    const listening = server('seven').replace(
      "response.end('seven')",
      "console.log(request.method, request.url, request.headers['tsunagi-mirror'] ?? '', request.headers.cookie ?? ''); response.end(request.url === '/api/told' ? 'told' : 'seven')",
    );
    const { number } = await promote({ 'server.js': listening, 'tsunagi.yaml': mirrored('/api/told') }, 'Seven');
    await until('it is in the mirror', async () => (await cutover().catch(() => null))?.steps[0]?.at === 'mirror');
    const people = crowd(3);
    const flow = traffic(people);
    const one = await told(number);
    const stranger = new Somebody();
    const own: Record<string, string>[] = [
      { cookie: 'session=1' },
      { authorization: 'Bearer 1' },
      { range: 'bytes=0-1' },
    ];
    const asked = async () => {
      const { instanceList } = await world.environment('pier', 'production');
      const id = instanceList.find((each) => each.deployment === number)?.id as string;
      const log = await world.api().get<{ items: { text: string }[] }>(`/api/instances/${id}/log`);
      return log.items.map((chunk) => chunk.text).join('');
    };
    // Copies may rest for a slice or a few just now.
    await until('one with a cookie is copied', async () => {
      for (const headers of own) await stranger.ask('/api/private', headers);
      await stranger.ask('/api/own/basket', { cookie: 'session=2' });
      return (await asked()).includes('/api/own/basket');
    });
    await flow.stop();
    expect(one).toMatchObject({ share: 0, step: 0 });
    expect(flow.seen).toMatchObject({ lost: 0, errors: 0 });
    for (const each of people) expect((await each.ask()).text).not.toBe('seven');
    expect(one.mirrored).toMatchObject({ nowErrors: 0, oldErrors: 0, same: 0 });
    // The bodies differ in length, and nothing said that they must not.
    expect(one.mirrored?.length).toBeGreaterThan(0);
    await world.cli('cutover', 'pier/production', '--go-on');
    await world.cli('cutover', 'pier/production', '--go-on');
    expect((await world.waitDeployment('pier', number)).state).toBe('live');
    const text = await asked();
    expect(text).toContain('GET /api 1');
    expect(text).toContain('GET /api/own/basket 1 session=2');
    expect(text).not.toContain('/api/private');
    const { evidence } = await world.release(
      'pier',
      (await world.environment('pier', 'production')).live?.release as number,
    );
    expect(evidence.find(({ kind }) => kind === 'comparison')).toMatchObject({
      name: 'production',
      source: `d${number}`,
      detail: { mirror: { nowErrors: 0 } },
    });
  });

  it('that gives other bytes where they must be equal keeps all traffic where it is', async () => {
    const { number } = await promote({ 'server.js': server('eight'), 'tsunagi.yaml': mirrored('/api') }, 'Eight');
    await until('it is in the mirror', async () => (await cutover().catch(() => null))?.steps[0]?.at === 'mirror');
    const flow = traffic(crowd(3));
    const ended = await world.waitDeployment('pier', number);
    await flow.stop();
    expect(ended).toMatchObject({ state: 'failed', failure: { code: 'cutover_worse' } });
    expect(ended.failure?.says).toMatch(/answers that must be equal and differ of copied requests, in \d+ of \d+/);
    expect(flow.seen).toMatchObject({ lost: 0, errors: 0 });
    expect((await world.environment('pier', 'production')).held?.by).toBe('engine');
  });
});
