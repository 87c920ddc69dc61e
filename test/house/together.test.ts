/** Releases of several projects that go together: all at one moment, or none of them, whatever dies or goes away meanwhile. */
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Together } from '../../src/wire/environments/together.js';
import type { Promotion } from '../../src/wire/releases.js';
import { openBrowser, signedIn, violations } from './browser.js';
import { readState } from '../../src/agent/instances/keeper.js';
import { erring } from './erring.js';
import { inTurn } from './turn.js';
import { api, type Checkout, noteRoom, openWorld, until, type World } from './world.js';

let world: World;
const checkouts: Record<string, Checkout> = {};
const server = erring('/api/ready');
const definition = (verify = 'true') => `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web, at: / }
    api: { kind: server, files: [package.json, server.js], start: node server.js, at: /api, ready: /api/ready }
environments:
  staging: { branch: main }
  production: { after: staging, guard: { errors: 5% }, verify: { run: '${verify}' } }
`;
const files = (text: string, { errors = 0, verify = 'true' } = {}) => ({
  'package.json': '{ "type": "module" }\n',
  'server.js': server(text, errors),
  'web/index.html': text,
  'tsunagi.yaml': definition(verify),
});

beforeAll(async () => {
  world = await openWorld({ timing: { warm: 60_000 } });
  for (const name of ['quay', 'tide']) {
    const { checkout, first } = await world.hosted(name, files('first'));
    checkouts[name] = checkout;
    await checkout.push();
    await world.waitLive(name, 'staging', first);
  }
});
afterAll(() => world?.close());

const host = (project: string) => `${project}-production.localhost`;
const shows = async (project: string) =>
  [(await world.visit(host(project), '/')).text, (await world.visit(host(project), '/api')).text] as const;
/** A release of each that is live in staging. */
async function prepared(all: Record<string, Record<string, string>>, title: string): Promise<void> {
  await Promise.all(
    Object.entries(all).map(async ([name, change]) => {
      const commit = await (checkouts[name] as Checkout).commitAndPush(change, title);
      await world.waitLive(name, 'staging', commit);
    }),
  );
}
const both = (text: string, more: Record<string, Parameters<typeof files>[1]> = {}) =>
  prepared({ quay: files(text, more.quay), tide: files(text, more.tide) }, text);
const ask = (...projects: string[]) =>
  world.api().post<Together>('/api/joint-promotions', {
    environment: 'production',
    projects: projects.map((project) => ({ project })),
  });
const look = (number: number) => world.api().get<Together>(`/api/joint-promotions/${number}`);
const over = (number: number) =>
  until('it is known', async () => {
    const one = await look(number);
    return one.state !== 'gathering' && one.state !== 'moved' && one;
  });
/** Nothing moves any more. */
const settled = (project: string) =>
  until(`${project} is settled`, async () => (await world.environment(project, 'production')).moving === null);

describe('releases of several projects', () => {
  it('go to where nothing was before, both or none', async () => {
    const done = await world.cli('promote', 'quay', 'tide', '--to', 'production', '--together');
    expect([done.status, done.err]).toEqual([0, '']);
    expect(done.out).toContain('j1: 2 projects to production, together');
    expect(done.out).toContain('quay and tide went live together.');
    expect(await shows('quay')).toEqual(['first', 'first']);
    expect((await world.environment('tide', 'production')).live?.together).toBe(1);
  });

  it('move at one moment: whoever has seen the new one of one sees the new one of the other', async () => {
    await both('second');
    let [going, pairs] = [true, 0];
    const torn: string[] = [];
    const watching = (async () => {
      for (let turn = 0; going; turn++) {
        const order = turn % 2 ? (['quay', 'tide'] as const) : (['tide', 'quay'] as const);
        const first = await shows(order[0]);
        const then = await shows(order[1]);
        pairs++;
        if (first[0] === 'second' && (then[0] !== 'second' || then[1] !== 'second')) torn.push(`${first} ${then}`);
      }
    })();
    const { number } = await ask('quay', 'tide');
    expect(await over(number)).toMatchObject({ state: 'live', issue: null });
    going = false;
    await watching;
    expect(torn).toEqual([]);
    expect(pairs).toBeGreaterThan(20);
    const told = await until('it is told', async () => {
      const events = await world.events('project=tide&type=together.live');
      return events.length === 2 && events;
    });
    expect(told[0]?.data.with).toEqual(['quay r2 (d4)', 'tide r2 (d4)']);
  });

  it('are refused all when one may not go, in words, and nothing is asked for', async () => {
    const before = (await world.environment('quay', 'production')).history.length;
    const refusal = async (...projects: string[]) =>
      ask(...projects).then(
        () => null,
        (error: { code: string }) => error.code,
      );
    expect(await refusal('quay', 'tide')).toBe('already_live');
    expect(await refusal('quay')).toBe('together_few');
    expect(await refusal('quay', 'quay')).toBe('together_few');
    expect(await refusal('quay', 'nowhere')).toBe('not_found');
    await both('third');
    await world.cli('hold', 'tide/production', '--why', 'low water');
    expect(await refusal('quay', 'tide')).toBe('environment_held');
    const check = await world.cli('promote', 'quay', 'tide', '--to', 'production', '--together', '--check');
    expect([check.status, check.out]).toEqual([1, expect.stringContaining('None may go before tide may.')]);
    const json = await world.cli('promote', 'quay', 'tide', '--to', 'production', '--together', '--check', '--json');
    expect((JSON.parse(json.out) as Promotion[]).map(({ allowed }) => allowed)).toEqual([true, false]);
    await world.cli('lift', 'tide/production');
    expect((await world.environment('quay', 'production')).history.length).toBe(before);
  });

  it('are for releasers, and not for a token of one project', async () => {
    const body = { environment: 'production', projects: [{ project: 'quay' }, { project: 'tide' }] };
    for (const [code, limits] of [
      ['not_allowed', { role: 'developer' }],
      ['token_bound', { role: 'releaser', project: 'quay' }],
    ] as const) {
      const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'one', ...limits });
      const answer = await api(world.url, token).raw('POST', '/api/joint-promotions', {
        body,
        headers: { 'idempotency-key': crypto.randomUUID() },
      });
      expect([answer.status, answer.body.code]).toEqual([403, code]);
    }
  });

  it('stay where one of them does not start, and that one is named', async () => {
    await prepared({ quay: { 'server.js': server('third'), 'web/index.html': 'third' } }, 'again');
    // It starts in staging, and not with what production gives it.
    await prepared(
      {
        tide: {
          'server.js': `if (process.env.TSUNAGI_ENVIRONMENT === 'production') process.exit(3);\n${server('third')}`,
        },
      },
      'Needs staging',
    );
    const { number } = await ask('quay', 'tide');
    const ended = await over(number);
    expect(ended).toMatchObject({ state: 'ended', issue: { code: 'together_failed' } });
    expect(ended.issue?.says).toContain('tide/production');
    await Promise.all([settled('quay'), settled('tide')]);
    expect((await look(number)).members.map(({ failure }) => failure?.code)).toEqual([
      'together_ended',
      expect.stringMatching(/ended|instance/),
    ]);
    expect(await shows('quay')).toEqual(['second', 'second']);
  });

  it('all come back where one is not verified', async () => {
    await both('fourth', { tide: { verify: 'sleep 2; exit 1' } });
    const { number } = await ask('quay', 'tide');
    await until('the traffic of both has moved', async () => (await shows('quay'))[0] === 'fourth');
    expect((await shows('tide'))[0]).toBe('fourth');
    expect(await over(number)).toMatchObject({ state: 'ended', issue: { code: 'together_failed' } });
    await Promise.all([settled('quay'), settled('tide')]);
    expect([await shows('quay'), await shows('tide')]).toEqual([
      ['second', 'second'],
      ['second', 'second'],
    ]);
  });

  it('go back together when one breaks a bound, or somebody says so', async () => {
    await both('fifth', { tide: { errors: 0.5 } });
    const first = await ask('quay', 'tide');
    expect((await over(first.number)).state).toBe('live');
    const returned = await until('the errors of one are seen', async () => {
      await Promise.all(Array.from({ length: 20 }, () => world.visit(host('tide'), '/api')));
      const one = await look(first.number);
      return one.state === 'returned' && one;
    });
    expect(returned.issue).toMatchObject({ code: 'together_worse', says: expect.stringContaining('tide/production') });
    await Promise.all([settled('quay'), settled('tide')]);
    expect([await shows('quay'), await shows('tide')]).toEqual([
      ['second', 'second'],
      ['second', 'second'],
    ]);
    for (const name of ['quay', 'tide']) {
      expect((await world.environment(name, 'production')).held?.why).toContain('tide/production');
      await world.cli('lift', `${name}/production`);
    }
    await both('sixth');
    const { number } = await ask('quay', 'tide');
    expect((await over(number)).state).toBe('live');
    const back = await world.cli('revert', `j${number}`);
    expect([back.status, back.out]).toEqual([0, expect.stringContaining('quay and tide went back.')]);
    expect([await shows('quay'), await shows('tide')]).toEqual([
      ['second', 'second'],
      ['second', 'second'],
    ]);
    const twice = await world.cli('revert', `j${number}`);
    for (const name of ['quay', 'tide']) await world.cli('lift', `${name}/production`);
    // One that has gone on since stays as it is.
    const again = await ask('quay', 'tide');
    expect((await over(again.number)).state).toBe('live');
    await prepared({ tide: files('alone') }, 'alone');
    const alone = await world.act('tide', 'production', { kind: 'promote' });
    expect((await world.waitDeployment('tide', alone.number)).state).toBe('live');
    const one = await world.cli('revert', `j${again.number}`);
    expect(one.out).toContain('quay went back.');
    expect(one.out).toContain('tide stayed: gone on since');
    expect([(await shows('quay'))[0], (await shows('tide'))[0]]).toEqual(['second', 'alone']);
    await world.cli('revert', 'tide/production', '--release', '2');
    expect([twice.status, twice.err]).toEqual([1, expect.stringContaining('is returned')]);
    for (const name of ['quay', 'tide']) await world.cli('lift', `${name}/production`);
  });
});

describe('in the console', () => {
  it('others are chosen on the page of a promotion, and all are taken back on that of an environment', async () => {
    await both('seen');
    const browser = await openBrowser();
    const errors: string[] = [];
    try {
      const page = await signedIn(browser, world, errors);
      await page.getByText('Board').first().waitFor();
      await page.goto(`${world.url}/quay/production/promote`);
      await page.getByText('Together with other projects').click();
      await page.getByLabel(/^tide r\d+$/).click();
      expect(await violations(page)).toEqual([]);
      await page.getByRole('button', { name: 'Promote 2 together' }).click();
      // Two deployments from beginning to end: beside other suites that takes its time.
      await page.getByText('quay and tide went live together.').waitFor({ timeout: 90_000 });
      expect(await violations(page)).toEqual([]);
      await page.getByRole('button', { name: 'Take all of them back' }).click();
      await until('both are back', async () => (await shows('tide'))[0] === 'second');
      expect(await shows('quay')).toEqual(['second', 'second']);
      expect(errors).toEqual([]);
    } finally {
      await browser.close();
    }
    for (const name of ['quay', 'tide']) await world.cli('lift', `${name}/production`);
  });
});

describe('what dies or goes away meanwhile', () => {
  it('a project that is removed: the others stay as they are', async () => {
    const before = await shows('quay');
    const { checkout, first } = await world.hosted('slip', {
      ...files('slip'),
      'server.js': `await new Promise((resolve) => setTimeout(resolve, process.env.TSUNAGI_ENVIRONMENT === 'production' ? 15_000 : 0));\n${server('slip')}`,
    });
    await checkout.push();
    await world.waitLive('slip', 'staging', first);
    await prepared({ quay: files('seventh') }, 'seventh');
    const { number } = await ask('quay', 'slip');
    await until('one waits for the other', async () =>
      (await look(number)).members.some(({ project, state }) => project === 'quay' && state === 'cutover'),
    );
    expect((await look(number)).sentence).toContain('slip is not yet');
    // Meanwhile what is live is kept as ever. It came by a revert: no bound watches it.
    const serving = async () =>
      (await world.environment('quay', 'production')).instanceList.filter(
        (one) => one.state === 'ready' && one.wanted && one.deployment !== asked?.deployment,
      );
    const asked = (await look(number)).members.find(({ project }) => project === 'quay');
    const [old] = await serving();
    process.kill(readState(join(world.folder, 'house/agent/live', old?.id as string)).keeper as number, 'SIGKILL');
    await until('another one serves', async () => {
      const now = await serving();
      return now[0] && now[0].id !== old?.id && (await shows('quay'))[1] === before[1];
    });
    expect((await look(number)).state).toBe('gathering');
    expect((await world.cli('project', 'remove', 'slip', '--yes')).err).toBe('');
    expect(await over(number)).toMatchObject({ state: 'ended', issue: { says: expect.stringContaining('slip') } });
    await settled('quay');
    expect(await shows('quay')).toEqual(before);
    expect((await look(number)).members.find(({ project }) => project === 'quay')?.failure?.code).toBe(
      'together_ended',
    );
  });

  it.each(
    inTurn([
      ['joint.gathering:before', 'service'],
      ['joint.gathering:after', 'service'],
      ['joint.moved:after', 'service'],
      ['deployment.cutover:before', 'service'],
      ['joint.gathering:after', 'edge'],
      ['joint.gathering:before', 'agent'],
    ] as const),
  )('%s, the %s: both go, and at every moment each host answers one of the two', async (at, room) => {
    const text = `${room} ${at}`;
    await both(text);
    const note = noteRoom(world, room);
    writeFileSync(join(world.folder, 'crash-at'), `${at} ${note.path}\n`);
    const asked = await ask('quay', 'tide');
    const done = await until('it is known', () => over(asked.number).catch(() => null));
    note.stop();
    expect(done).toMatchObject({ state: 'live', issue: null });
    await until('each edge has it', async () => (await shows('quay'))[0] === text);
    expect([await shows('quay'), await shows('tide')]).toEqual([
      [text, text],
      [text, text],
    ]);
  });

  it('a revert of one of them before all are verified: none goes', async () => {
    const before = await shows('tide');
    await prepared({ quay: files('eighth'), tide: files('eighth', { verify: 'sleep 5' }) }, 'eighth');
    const { number } = await ask('quay', 'tide');
    await until('the traffic has moved', async () => (await look(number)).state === 'moved');
    await world.cli('revert', 'quay/production', '--no-wait');
    expect(await over(number)).toMatchObject({ state: 'ended', issue: { code: 'together_failed' } });
    await Promise.all([settled('quay'), settled('tide')]);
    expect(await shows('tide')).toEqual(before);
    await world.cli('lift', 'quay/production');
  });
});
