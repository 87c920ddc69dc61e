/** Pull requests whose events come late, twice, in any order, with odd texts, or of commits that are gone. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import { signEvent } from '../../src/keys/webhooks.js';
import type { Environment } from '../../src/wire/environments/environments.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { AddedProject } from '../../src/wire/projects.js';
import type { Run } from '../../src/wire/runs.js';
import { notified, startCodeHost } from './codehost.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
let added: AddedProject;
let [before, after] = ['', ''];
const began = Date.now() - 60_000;
beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  let first: string;
  ({ checkout, added, first } = await notified(world, codehost, 'skiff', {
    'web/index.html': '<h1>main</h1>\n',
    'tsunagi.yaml': `tsunagi: 1
release:
  parts: { page: { kind: site, files: [web/], root: web } }
environments:
  review: { for: pull requests }
  staging: { branch: main }
`,
  }));
  await world.waitLive('skiff', 'staging', first);
  await checkout.git('checkout', '-qb', 'winter');
  before = await checkout.commit({ 'web/index.html': '<h1>before</h1>\n' }, 'Before');
  after = await checkout.commit({ 'web/index.html': '<h1>after</h1>\n' }, 'After');
  await checkout.git('push', '-q', 'origin', 'winter');
});
afterAll(async () => {
  await codehost?.close();
  await world?.close();
});

interface Told {
  what: 'created' | 'updated' | 'merged' | 'abandoned';
  at: number;
  data?: object;
}
/** As a code host would, `at` seconds after the beginning. */
async function tell(
  number: number,
  { what, at, data = {} }: Told,
): Promise<{ status: number; body: { code?: string } }> {
  const id = crypto.randomUUID();
  const type = `dev.cdevents.change.${what}.0.3.0`;
  const time = new Date(began + at * 1_000).toISOString();
  const customData = { number, ...data };
  const body = JSON.stringify({ specversion: '1.0', id, source: '/host', type, time, data: { customData } });
  const answer = await fetch(added.endpoint, {
    method: 'POST',
    headers: {
      'content-type': 'application/cloudevents+json',
      ...signEvent(added.eventSecret as string, id, body, Date.now()),
    },
    body,
  });
  return { status: answer.status, body: (await answer.json()) as { code?: string } };
}
const runs = async (number: number) =>
  (await world.api().get<PageOf<Run>>('/api/runs?project=skiff&limit=200')).items.filter(
    (one) => one.pullRequest === number,
  );
const review = (number: number): Promise<Environment | null> =>
  world.environment('skiff', `pr-${number}`).catch(() => null);
/** All that was sent is done: events of one project are worked in the order in which they came. */
async function worked(): Promise<void> {
  const mark = 900_000 + Math.floor(Math.random() * 90_000);
  await tell(mark, { what: 'created', at: 1, data: { title: 'mark', head: before, base: 'main', trusted: false } });
  await until('all of it was worked', async () =>
    (await world.events('type=pull-request.opened')).some((one) => one.subject === `pr-${mark}`),
  );
}

/** Every order of them. */
const orders = <T>(list: readonly T[]): T[][] =>
  list.length < 2
    ? [[...list]]
    : list.flatMap((one, at) => orders(list.filter((_, other) => other !== at)).map((rest) => [one, ...rest]));

describe('the events of a pull request', () => {
  const opened: Told = { what: 'created', at: 1, data: { title: 'Winter', head: '', base: 'main', trusted: true } };
  const pushed: Told = { what: 'updated', at: 2, data: { head: '' } };
  const closed: Told = { what: 'abandoned', at: 3 };
  const reopened: Told = { what: 'updated', at: 4, data: { head: '', title: 'Winter again' } };
  beforeAll(() => {
    Object.assign(opened.data as object, { head: before });
    for (const one of [pushed, reopened]) Object.assign(one.data as object, { head: after });
  });

  it('that was closed stays closed, in whatever order they come, each of them twice', async () => {
    const all = orders([opened, pushed, closed]);
    for (const [at, order] of all.entries()) for (const one of [...order, ...order]) await tell(100 + at, one);
    await worked();
    for (const [at, order] of all.entries()) {
      await until(`nothing of pr-${100 + at} is left`, async () => {
        const one = await review(100 + at);
        return one === null || one.state === 'closed';
      });
      // Where its end was told first nothing was ever begun.
      const begun = order[0] !== closed;
      expect([at, (await runs(100 + at)).length > 0]).toEqual([at, begun]);
    }
  });

  it('that was opened again is live with its newest commit, in whatever order they come', async () => {
    const all = orders([opened, closed, reopened]);
    for (const [at, order] of all.entries()) for (const one of order) await tell(200 + at, one);
    await worked();
    for (const at of all.keys()) {
      const one = await world.waitLive('skiff', `pr-${200 + at}`, after);
      expect(one.pullRequest).toEqual({ number: 200 + at, title: 'Winter again' });
      expect((await world.visit(`pr-${200 + at}-skiff.review.localhost`)).text).toBe('<h1>after</h1>\n');
      await tell(200 + at, { what: 'merged', at: 5 });
    }
    await until('all of them are gone', async () =>
      (await Promise.all([...all.keys()].map((at) => review(200 + at)))).every((one) => one?.state === 'closed'),
    );
  });

  it('that was opened again with the commit that it had is live with it again, also where it had not closed yet', async () => {
    await tell(250, { ...opened, data: { ...opened.data, head: after } });
    await world.waitLive('skiff', 'pr-250', after);
    await tell(250, { what: 'abandoned', at: 3 });
    await until('it is closed', async () => (await review(250))?.state === 'closed');
    await tell(250, { what: 'updated', at: 4, data: { head: after } });
    await world.waitLive('skiff', 'pr-250', after);
    // Both before anybody has worked on the first.
    await tell(250, { what: 'abandoned', at: 5 });
    await tell(250, { what: 'updated', at: 6, data: { head: after } });
    await worked();
    await until('it is live again', async () => {
      const one = await review(250);
      return one?.state === 'live' && one.moving === null;
    });
    expect((await world.visit('pr-250-skiff.review.localhost')).text).toBe('<h1>after</h1>\n');
    // And gone when it is closed while it was to be opened again.
    for (const [what, at] of [
      ['abandoned', 7],
      ['updated', 8],
      ['abandoned', 9],
    ] as const)
      await tell(250, { what, at, ...(what === 'updated' ? { data: { head: after } } : {}) });
    await until('it is closed for good', async () => (await review(250))?.state === 'closed');
    await worked();
    expect((await review(250))?.state).toBe('closed');
  });

  it('that tell only of its title or base begin no run', async () => {
    await tell(300, opened);
    await world.waitLive('skiff', 'pr-300', before);
    await tell(300, { what: 'updated', at: 6, data: { title: 'Retargeted', base: 'next', draft: true } });
    await until('its title is known', async () => (await review(300))?.pullRequest?.title === 'Retargeted');
    expect(await runs(300)).toHaveLength(1);
    await tell(300, { what: 'abandoned', at: 7 });
    await until('it is closed', async () => (await review(300))?.state === 'closed');
  });
});

describe('an author', () => {
  it('who opens pull requests without end gets no more than fifty reviews, in words; others get theirs', async () => {
    const by = (actor: string): Told => ({
      what: 'created',
      at: 1,
      data: { title: 'One of many', head: before, base: 'main', trusted: true, actor },
    });
    for (let n = 0; n < 55; n++) await tell(1_000 + n, by('Flood'));
    await tell(1_100, by('Somebody else'));
    await worked();
    const refused = (await world.events('type=review.refused')).map((one) => one.subject);
    expect(refused.sort()).toEqual([50, 51, 52, 53, 54].map((n) => `skiff/pr-${1_000 + n}`));
    await world.waitLive('skiff', 'pr-1100', before);
    expect(await review(1_050)).toBeNull();
    // Where one has closed there is room for the next that is pushed to.
    await tell(1_000, { what: 'abandoned', at: 3 });
    await until('it is closed', async () => (await review(1_000))?.state === 'closed');
    await tell(1_050, { what: 'updated', at: 4, data: { head: after, actor: 'Flood' } });
    await world.waitLive('skiff', 'pr-1050', after);
  });
});

describe('a draft', () => {
  it('gets its review when it is none any more, where the definition says so', async () => {
    await checkout.git('checkout', '-q', 'main');
    const text = readFileSync(join(world.folder, 'skiff-checkout/tsunagi.yaml'), 'utf8');
    const next = await checkout.commitAndPush(
      { 'tsunagi.yaml': text.replace('for: pull requests', 'for: pull requests, drafts: false') },
      'Drafts later',
    );
    await world.waitLive('skiff', 'staging', next);
    await tell(350, {
      what: 'created',
      at: 1,
      data: { title: 'Draft', head: before, base: 'main', trusted: true, draft: true },
    });
    await worked();
    // It is built and tested like any other.
    await until('it runs', async () => (await runs(350))[0]?.state === 'passed');
    expect(await review(350)).toBeNull();
    await tell(350, { what: 'updated', at: 2, data: { draft: false } });
    await world.waitLive('skiff', 'pr-350', before);
    expect(await runs(350)).toHaveLength(1);
  });
});

describe('what is odd about a pull request', () => {
  it('a merge of one that was never opened begins nothing', async () => {
    await tell(400, { what: 'merged', at: 1 });
    await worked();
    expect([await review(400), await runs(400)]).toEqual([null, []]);
  });
  it('a commit that is gone is said, and holds up nothing that comes after it', async () => {
    await tell(401, {
      what: 'created',
      at: 1,
      data: { title: 'Gone', head: '0'.repeat(40), base: 'main', trusted: true },
    });
    await worked();
    const failed = (await world.events('type=intake.failed')).at(0);
    expect(failed?.data.issue).toMatchObject({ code: 'commit_absent' });
    expect(await review(401)).toBeNull();
  });
  it('a time of the far future counts as now: what comes later still counts', async () => {
    const far = {
      what: 'created',
      at: 10 ** 9,
      data: { title: 'Far', head: before, base: 'main', trusted: true },
    } as const;
    expect((await tell(402, far)).status).toBe(202);
    await world.waitLive('skiff', 'pr-402', before);
    // Told of a moment after the first one came.
    await tell(402, { what: 'abandoned', at: (Date.now() - began) / 1_000 + 1 });
    await until('it is closed', async () => (await review(402))?.state === 'closed');
  });
  it('texts of any letters and length are kept as text, numbers and names as they may be', async () => {
    const title = `${'\u0007<img src=x onerror=alert(1)> \u202e𐍈é\n'.repeat(12)}`.slice(0, 480);
    expect(
      (await tell(403, { what: 'created', at: 1, data: { title, head: before, base: 'main', trusted: true } })).status,
    ).toBe(202);
    await world.waitLive('skiff', 'pr-403', before);
    const listed = await world.cli('board');
    expect([listed.status, ['\u0007', '\u202e'].some((one) => listed.out.includes(one))]).toEqual([0, false]);
    for (const data of [
      { title: 'x'.repeat(10_000) },
      { head: 'main' },
      { base: 'b'.repeat(10_000) },
      { draft: 'yes' },
    ])
      expect((await tell(404, { what: 'created', at: 1, data: { head: before, ...data } })).body.code).toBe(
        'event_malformed',
      );
    for (const number of [0, -1, 1.5, 2 ** 31])
      expect((await tell(number, { what: 'merged', at: 1 })).status).toBe(400);
  });
});
