/** Pull requests of a source that sends no events: seen by their refs, a stranger's each, allowed one by one. */
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import type { Project } from '../../src/wire/projects.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Run } from '../../src/wire/runs.js';
import { startCodeHost } from './codehost.js';
import { Checkout, openWorld, until, type World } from './world.js';

const definition = `tsunagi: 1
release:
  parts: { page: { kind: site, files: [web/], root: web } }
environments:
  review: { for: pull requests }
  staging: { branch: main }
`;
let world: World;
let codehost: CodeHost;
let checkout: Checkout;
const look = () => world.cli('project', 'fetch', '--project', 'beacon');
const runs = async () => (await world.api().get<PageOf<Run>>('/api/runs?project=beacon&limit=100')).items;
/** A commit on top of main, at the ref of a pull request. */
async function offer(number: number, text: string): Promise<string> {
  await checkout.git('checkout', '-q', '--detach', 'main');
  const commit = await checkout.commit({ 'web/index.html': `<h1>${text}</h1>\n` }, text);
  await checkout.git('push', '-qf', 'origin', `HEAD:refs/pull/${number}/head`);
  await checkout.git('checkout', '-q', 'main');
  return commit;
}
const waits = (number: number, commit: string) =>
  until(`the run of ${number} waits for somebody`, async () => {
    await look();
    return (await runs()).find(
      (one) => one.pullRequest === number && one.commit.id === commit && one.issue?.code === 'run_untrusted',
    );
  });
const allow = (commit: string) => world.cli('run', 'allow', commit, '--project', 'beacon');

beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  const url = codehost.addRepository('beacon');
  checkout = new Checkout(join(world.folder, 'beacon'), url);
  await checkout.start();
  const first = await checkout.commitAndPush(
    { 'web/index.html': '<h1>main</h1>\n', 'tsunagi.yaml': definition },
    'First',
  );
  await offer(3, 'of long ago');
  await world.api().post('/api/projects', { name: 'beacon', source: 'polled', url, allowPrivate: true });
  await world.waitLive('beacon', 'staging', first);
});
afterAll(async () => {
  await codehost?.close();
  await world?.close();
});

describe('refs of pull requests', () => {
  it('are looked at as somebody says, and not under a pattern that is none', async () => {
    const wrong = await world.cli('project', 'pull-requests', 'beacon', 'refs/heads/*');
    expect([wrong.status === 0, wrong.err]).toEqual([false, expect.stringContaining('is no pattern of refs')]);
    const set = await world.cli('project', 'pull-requests', 'beacon', 'refs/pull/*/head');
    expect(set.out).toContain('Each commit waits to be allowed.');
    expect((await world.api().get<Project>('/api/projects/beacon')).pullRequests).toBe('refs/pull/*/head');
    await world.api().post('/api/projects', { name: 'hosted', source: 'hosted' });
    expect((await world.cli('project', 'pull-requests', 'hosted', 'refs/pull/*/head')).err).toContain('is looked at');
  });

  it('open pull requests from then on; what was there before counts when it moves', async () => {
    await until('they were looked at', async () => {
      await look();
      return (await world.events('project=beacon&type=project.changed')).length > 0;
    });
    const commit = await offer(7, 'a banner');
    const run = await waits(7, commit);
    expect(run.commit.title).toBe('a banner');
    expect((await runs()).some((one) => one.pullRequest === 3)).toBe(false);
    expect((await allow(commit)).status).toBe(0);
    const live = await world.waitLive('beacon', 'pr-7', commit);
    expect(live.review?.outside).toBe(true);
    expect((await world.visit('pr-7-beacon.untrusted.localhost', '/')).text).toContain('a banner');
    await waits(3, await offer(3, 'of long ago, moved'));
  });

  it('follow each push, and close when they are merged or gone', async () => {
    const next = await offer(7, 'a better banner');
    await waits(7, next);
    expect((await world.visit('pr-7-beacon.untrusted.localhost', '/')).text).toContain('a banner');
    await allow(next);
    await world.waitLive('beacon', 'pr-7', next);
    await checkout.git('merge', '-q', '--ff-only', next);
    await checkout.push();
    await until('it is closed', async () => {
      await look();
      return (await world.environment('beacon', 'pr-7')).state === 'closed';
    });
    expect((await world.events('project=beacon&type=pull-request.closed'))[0]).toMatchObject({
      subject: 'pr-7',
      data: { merged: true },
    });
    await checkout.git('push', '-q', 'origin', ':refs/pull/3/head');
    await until('the other is closed, too', async () => {
      await look();
      return (await world.events('project=beacon&type=pull-request.closed')).some((one) => one.subject === 'pr-3');
    });
  });

  it('come many at once: each look takes some, none is lost, also when the service is killed', async () => {
    const commit = await offer(100, 'many');
    const refs = Array.from({ length: 45 }, (_, at) => `${commit}:refs/pull/${101 + at}/head`);
    await checkout.git('push', '-q', 'origin', ...refs);
    await until('some are seen', async () => {
      await look();
      return (await runs()).some((one) => (one.pullRequest ?? 0) >= 100);
    });
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    const seen = await until('all are seen', async () => {
      await look();
      const items = (await world.api().get<PageOf<Run>>('/api/runs?project=beacon&limit=200')).items;
      const numbers = items.flatMap((one) => ((one.pullRequest ?? 0) >= 100 ? [one.pullRequest as number] : []));
      return new Set(numbers).size === 46 ? numbers : null;
    });
    expect(seen).toHaveLength(46);
    await world.cli('project', 'pull-requests', 'beacon');
    expect((await world.api().get<Project>('/api/projects/beacon')).pullRequests).toBeNull();
  });
});
