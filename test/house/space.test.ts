import { existsSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { AgentView } from '../../src/wire/overview.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Release } from '../../src/wire/releases.js';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const keep = { runs: 3, releases: 2, reverts: 1, grace: 200, free: 0 };
beforeAll(async () => {
  world = await openWorld({ timing: { space: 300, warm: 500 }, env: { TSUNAGI_KEEP: JSON.stringify(keep) } });
});
afterAll(() => world?.close());

const get = (number: number) => world.api().get<RunDetail>(`/api/projects/store/runs/${number}`);
const ended = (number: number) =>
  until(`run ${number} has ended`, async () => {
    const run = await get(number);
    return run.endedAt ? run : null;
  });
const trimmed = (number: number) =>
  until(`run ${number} is trimmed`, async () => (await get(number)).trimmedAt !== null);
const blobs = () => readdirSync(join(world.folder, 'house/service/blobs/blobs/sha256')).map((name) => `sha256:${name}`);

const definition = `tsunagi: 1
tasks:
  web: { reads: [a.txt], run: 'mkdir -p dist && cp a.txt dist/index.html', makes: [dist/] }
  same: { reads: [b.txt], run: 'cp b.txt out.txt', makes: [out.txt] }
release:
  needs: [web]
  parts:
    page: { kind: site, needs: [web], root: dist }
environments:
  staging: { branch: main }
`;

describe('what is kept', () => {
  const outputs: string[] = [];

  it('is what the newest runs and releases need, and what a kept run shows of an old one', async () => {
    ({ checkout } = await world.hosted('store', { 'a.txt': 'a1', 'b.txt': 'b', 'tsunagi.yaml': definition }));
    await checkout.push();
    outputs.push((await ended(1)).taskList[0]?.output?.digest as string);
    for (let number = 2; number <= 6; number++) {
      await checkout.commitAndPush({ 'a.txt': `a${number}` }, `change ${number}`);
      const run = await ended(number);
      expect(run.taskList.map((task) => task.state)).toEqual(['passed', 'reused']);
      outputs.push(run.taskList[0]?.output?.digest as string);
      await world.waitLive('store', 'staging', run.commit.id);
    }
    // Run 1 made what the newest runs still reuse, so it stays; runs 2 and 3 have releases that are not kept.
    await trimmed(2);
    await trimmed(3);
    expect((await get(1)).trimmedAt).toBeNull();
    expect((await get(6)).taskList[1]).toMatchObject({ state: 'reused', reusedFrom: 1 });
    await until('the bytes of run 2 are gone', async () => !blobs().includes(outputs[1] as string));
    const left = blobs();
    expect(left).toContain(outputs[5]);
    expect(left).toContain(outputs[4]);
    const shown = (await get(6)).taskList[1]?.output?.digest;
    expect(left).toContain(shown);
  });

  it('is never what is live, and what is live still answers', async () => {
    expect((await world.visit('store-staging.localhost')).text).toBe('a6');
    const { items } = await world.api().get<PageOf<Release>>('/api/projects/store/releases');
    expect(items.map((one) => one.number)).toEqual([6, 5, 4, 3, 2, 1]);
    const gone = await world.api().raw('POST', '/api/projects/store/environments/staging/deployments', {
      body: { kind: 'deploy', release: 2 },
      headers: { 'idempotency-key': 'deploy what is gone' },
    });
    expect(gone).toMatchObject({ status: 410, body: { code: 'release_gone' } });
    const reverted = await world.api().raw('POST', '/api/projects/store/environments/staging/deployments', {
      body: { kind: 'revert', release: 2 },
      headers: { 'idempotency-key': 'revert to what is gone' },
    });
    expect(reverted).toMatchObject({ status: 410, body: { code: 'release_gone' } });
    const told = await world.events('type=release.bytes-removed&project=store');
    const subjects = told.map((one) => one.subject).sort();
    expect(subjects).toContain('r2');
    expect(subjects.filter((one) => !['r1', 'r2', 'r3', 'r4'].includes(one))).toEqual([]);
  });

  it('is let go safely while runs go on: a trimmed pass is done again', async () => {
    await checkout.commit({ 'a.txt': 'a2' }, 'back to the second');
    await checkout.push();
    const run = await ended(7);
    expect(run.taskList.map((task) => task.state)).toEqual(['passed', 'reused']);
    expect(run.taskList[0]?.output?.digest).toBe(outputs[1]);
    await world.waitLive('store', 'staging', run.commit.id);
    expect((await world.visit('store-staging.localhost')).text).toBe('a2');
    const { out } = await world.cli('run', 'show', '2', '--project', 'store');
    expect(out).toContain('Its logs and outputs are not kept any more.');
  });
});

describe('a disk that is nearly full', () => {
  it('makes new attempts wait, says so, and lets them go on when there is room', async () => {
    await world.restart({ TSUNAGI_MIN_FREE: String(2 ** 53 - 1) });
    const { number } = await world.api().post<Run>('/api/projects/store/runs', { ref: 'main', reuse: false });
    const waiting = await until('it says why it waits', async () => {
      const run = await get(number);
      return run.waits ? run : null;
    });
    expect(waiting.waits).toMatchObject({ code: 'disk_nearly_full' });
    expect(waiting.waits?.says).toMatch(/^The disk of agent-1 is nearly full/);
    expect(waiting.taskList.every((task) => task.state === 'ready')).toBe(true);
    const { items } = await world.api().get<{ items: AgentView[] }>('/api/agents');
    expect(items[0]?.full?.code).toBe('disk_nearly_full');
    expect((await world.cli('run', 'show', String(number), '--project', 'store')).out).toContain('New attempts wait.');
    await world.restart();
    expect((await ended(number)).state).toBe('passed');
    expect((await get(number)).waits).toBeNull();
    expect(existsSync(join(world.folder, 'house'))).toBe(true);
  });
});
