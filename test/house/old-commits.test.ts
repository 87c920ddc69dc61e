/** Another run of an older commit: its number is higher than all others, and it is newer for nothing. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import type { Address } from '../../src/wire/environments/addresses.js';
import type { Board } from '../../src/wire/overview.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Project } from '../../src/wire/projects.js';
import type { Run } from '../../src/wire/runs.js';
import { notified, startCodeHost } from './codehost.js';
import { app, appDefinition, type Checkout, openWorld, until, type World } from './world.js';

/** Before: no address of its own, no pilot, reviews for everyone. After: both, and reviews for people who are signed in. */
const before = appDefinition.replace('review: { for: pull requests }', 'review: { for: pull requests, access: open }');
const after = appDefinition
  .replace('review: { for: pull requests }', 'review: { for: pull requests, access: signed-in }')
  .replace('branch: main, verify', 'branch: main, addresses: [departures.kohama.example], verify')
  .replace(
    '  production: { after: staging }',
    '  production: { after: staging, approvals: 1 }\n  pilot: { branch: pilot }',
  );

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
let first: string;
let second: string;

beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  ({ checkout, first } = await notified(world, codehost, 'sailings', { ...app('old'), 'tsunagi.yaml': before }));
  await world.waitLive('sailings', 'staging', first);
  second = await checkout.commitAndPush({ ...app('new'), 'tsunagi.yaml': after }, 'Rules, an address, a pilot');
  await world.waitLive('sailings', 'staging', second);
});
afterAll(async () => {
  await codehost?.close();
  await world?.close();
});

const runOf = async (commit: string, nth = 0): Promise<Run> =>
  (await world.api().get<PageOf<Run>>('/api/runs?project=sailings&limit=100')).items
    .filter((one) => one.commit.id === commit)
    .reverse()[nth] as Run;
const again = async (run: Run, task?: string): Promise<Run> => {
  const { number } = await world
    .api()
    .post<Run>(`/api/projects/sailings/runs/${run.number}/again`, task ? { task } : {});
  return until(`run ${number} to end`, async () => {
    const one = await world.api().get<Run>(`/api/projects/sailings/runs/${number}`);
    return one.endedAt === null ? null : one;
  });
};

describe('another run of an older commit of main', () => {
  it('leaves what main declares as it is, and its release is taken by no environment', async () => {
    const accepted = (await world.events('type=definition.accepted')).length;
    const lives = (await world.environment('sailings', 'staging')).history.length;
    const run = await again(await runOf(first), 'unit');
    expect(run).toMatchObject({ state: 'passed', branch: 'main', release: expect.any(Number) });
    expect((await world.api().get<Project>('/api/projects/sailings')).definitionCommit).toBe(second);
    expect((await world.events('type=definition.accepted')).length).toBe(accepted);
    const addresses = await world.api().get<PageOf<Address>>('/api/projects/sailings/environments/staging/addresses');
    expect(addresses.items.map((one) => one.host)).toContain('departures.kohama.example');
    // Everything that its end woke has been looked at once a later run of main is live.
    const third = await checkout.commitAndPush({ 'note.txt': 'third' }, 'Third');
    const staging = await world.waitLive('sailings', 'staging', third);
    expect(staging.history.length).toBe(lives + 1);
    expect(staging.history.some((one) => one.release === run.release)).toBe(false);
  });

  it('says nothing of how main is: neither on the board nor on its badge', async () => {
    // A broken commit, and one that repairs it. Then the broken one runs again.
    const broken = await checkout.commitAndPush({ 'server.js': 'not a program (' }, 'Broken');
    expect((await world.waitRun('sailings', broken)).state).toBe('failed');
    const whole = await checkout.commitAndPush({ ...app('whole again') }, 'Whole again');
    await world.waitLive('sailings', 'staging', whole);
    expect((await again(await runOf(broken))).state).toBe('failed');
    const board = await world.api().get<Board>('/api/board');
    const [project] = board.projects.filter((one) => one.name === 'sailings');
    expect(project?.run?.commit.id).toBe(whole);
    const { badge } = await world.api().get<Project>('/api/projects/sailings');
    const svg = await (await fetch(new URL(badge, world.url))).text();
    expect(svg).toContain('passed');
    expect(svg).not.toContain('failed');
    const { wrong } = await world.api().get<{ wrong: { topic: string }[] }>('/api/alerts');
    expect(wrong.filter((one) => one.topic === 'main-failed')).toEqual([]);
  });
});

describe('another run of an older commit of a pull request', () => {
  it('does not bring the review back to it', async () => {
    await checkout.git('checkout', '-q', '-B', 'feature', 'main');
    const one = await checkout.commitAndPush({ ...app('review one') }, 'One', 'feature');
    const pull = await codehost.openPull('sailings', { title: 'A change', branch: 'feature', trusted: true });
    const review = `pr-${pull.number}`;
    await world.waitLive('sailings', review, one);
    const two = await checkout.commitAndPush({ ...app('review two') }, 'Two', 'feature');
    await world.waitLive('sailings', review, two);
    const ofPull = (await world.api().get<PageOf<Run>>('/api/runs?project=sailings&limit=100')).items.find(
      (run) => run.commit.id === one && run.pullRequest === pull.number,
    );
    const run = await again(ofPull as Run, 'unit');
    expect(run.state).toBe('passed');
    const three = await checkout.commitAndPush({ ...app('review three') }, 'Three', 'feature');
    const seen = await world.waitLive('sailings', review, three);
    expect(seen.history.map((deployment) => deployment.commit.id)).toEqual([three, two, one]);
  });
});
