/** Which commit broke it: commits between a release and now are halved, and only those are run of which nothing is known. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Run } from '../../src/wire/runs.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { SinceView } from '../../src/wire/why.js';
import { type Checkout, openWorld, until, type World } from './world.js';

const definition = `tsunagi: 1
tasks:
  unit: { reads: [web/tide.txt], run: test "$(cat web/tide.txt)" -lt 60 }
  other: { reads: [other.txt], run: 'true' }
release:
  needs: [unit]
  parts: { page: { kind: site, files: [web/], root: web } }
environments: { staging: { branch: main } }
`;

let world: World;
let checkout: Checkout;
const ids: string[] = [];

const runs = async () => (await world.api().get<PageOf<Run>>('/api/runs?project=tides&limit=100')).items;
const why = (...more: string[]) => world.cli('why', 'task', 'unit', '--since', 'r1', '--project', 'tides', ...more);

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('tides', {
    'tsunagi.yaml': definition,
    'web/tide.txt': '10',
    'other.txt': '1',
  }));
  await checkout.push();
  await world.waitLive('tides', 'staging', first);
  // Twelve commits in one push: the seventh breaks it, and the fifth cannot be run at all.
  for (let n = 1; n <= 12; n++)
    ids.push(
      await checkout.commit(
        {
          'web/tide.txt': n < 7 ? `${10 + n}` : `${60 + n}`,
          'tsunagi.yaml': n === 5 ? 'tsunagi: 1\ntasks: [' : definition,
        },
        `Change ${n}`,
      ),
    );
  await checkout.push();
  expect((await world.waitRun('tides', ids[11] as string)).state).toBe('failed');
});
afterAll(() => world?.close());

describe('why task --since', () => {
  it('finds the first that is bad, with few runs, past one that could not be judged', async () => {
    const before = (await runs()).length;
    const { out, err, status } = await why();
    expect([status, err]).toEqual([0, '']);
    expect(out).toMatch(new RegExp(`unit is broken since ${(ids[6] as string).slice(0, 7)} Change 7`));
    expect(out).toMatch(/One of 12 commits since r1/);
    const asked = (await runs()).length - before;
    expect(asked).toBeGreaterThan(0);
    expect(asked).toBeLessThanOrEqual(5);
    // What was good took no turn in the environment of the branch.
    expect((await world.environment('tides', 'staging')).live?.release).toBe(1);
  });

  it('knows it the next time without a run, for people and for programs', async () => {
    const before = (await runs()).length;
    const found = JSON.parse((await why('--json')).out) as SinceView;
    expect(found).toMatchObject({
      state: 'found',
      commits: 12,
      first: { id: ids[6], verdict: 'bad', title: 'Change 7' },
    });
    expect((await runs()).length).toBe(before);
  });

  it('names those that it may be as well', async () => {
    // The sixth is not known to be good here, the fifth can't be.
    await checkout.git('switch', '-q', '-c', 'doubt', ids[3] as string);
    const broken = await checkout.commit({ 'tsunagi.yaml': 'tsunagi: 1\ntasks: [' }, 'Cannot be read');
    const bad = await checkout.commit({ 'tsunagi.yaml': definition, 'web/tide.txt': '99' }, 'Is bad');
    await checkout.push('doubt');
    const { out } = await why('--ref', 'doubt');
    expect(out).toMatch(new RegExp(`broken since ${bad.slice(0, 7)} Is bad`));
    expect(out).toMatch(new RegExp(`could not be judged[\\s\\S]*${broken.slice(0, 7)} Cannot be read`));
    await checkout.git('switch', '-q', 'main');
  });

  it('says that nothing is broken, and what it can’t compare', async () => {
    const mended = await checkout.commitAndPush({ 'web/tide.txt': '20' }, 'Mended');
    await world.waitRun('tides', mended);
    expect((await why()).out).toMatch(/unit passes at .*nothing broke it since r1/);
    const other = (since: string, ...more: string[]) =>
      world.cli('why', 'task', 'unit', '--since', since, '--project', 'tides', ...more);
    expect((await other('r99')).err).toMatch(/release r99/);
    expect((await other('x')).err).toMatch(/is no release/);
    expect((await world.cli('why', 'task', 'other', '--since', 'r1', '--project', 'tides')).err).toMatch(
      /no evidence of/,
    );
    expect((await other('r1', '--ref', (await checkout.git('rev-parse', 'HEAD~13')).trim())).err).toMatch(
      /Nothing has come since r1/,
    );
    const newest = await until('a release of it', async () =>
      (
        await world.api().get<PageOf<{ number: number; commit: { id: string } }>>('/api/projects/tides/releases')
      ).items.find((one) => one.commit.id === mended),
    );
    expect((await other(`r${newest.number}`, '--ref', ids[2] as string)).err).toMatch(/does not come before/);
  });

  it('is asked of by whoever may look, and starts runs for developers alone', async () => {
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'viewer', role: 'viewer' });
    const view = await world.api(token).raw('GET', '/api/projects/tides/tasks/unit/since?release=1');
    expect(view.status).toBe(200);
    expect((await world.api(token).raw('GET', '/api/projects/tides/tasks/unit/since')).status).toBe(400);
    expect((await world.api(null as never).raw('GET', '/api/projects/tides/tasks/unit/since?release=1')).status).toBe(
      401,
    );
  });
});
