/** What is live is mended from where it stands, though main has gone on, and said until main has the mending, too. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { FromLive } from '../../src/wire/runs.js';
import { app, appDefinition, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
let live: string;

beforeAll(async () => {
  world = await openWorld();
  ({ checkout, first: live } = await world.hosted('shop', { ...app('live'), 'tsunagi.yaml': appDefinition }));
  await checkout.push();
  await world.waitLive('shop', 'staging', live);
  await world.cli('promote', '--to', 'shop/production');
  await world.waitLive('shop', 'production', live);
  await world.waitLive('shop', 'staging', await checkout.commitAndPush(app('half done'), 'Half done'));
});
afterAll(() => world?.close());

describe('run start --from', () => {
  it('begins a branch at what is live, and says the way of what is pushed to it', async () => {
    const { out, err, status } = await world.cli('run', 'start', '--from', 'shop/production');
    expect([status, err]).toEqual([0, '']);
    expect(out).toMatch(new RegExp(`fix-r1 begins at ${live.slice(0, 7)} .*r1, which is live in production`));
    expect(out).toMatch(/git fetch && git switch fix-r1/);
    const [staging, production] = [
      out.indexOf('tsunagi deploy rN --to shop/staging'),
      out.indexOf('takes what staging has verified'),
    ];
    expect(staging).toBeGreaterThan(0);
    expect(production).toBeGreaterThan(staging);
    await checkout.git('fetch', '-q', 'origin');
    expect(await checkout.git('rev-parse', 'origin/fix-r1')).toBe(live);
    const run = await world.waitRun('shop', live, 'fix-r1');
    expect(run.state).toBe('passed');
    await until('the push is on record', async () =>
      (await world.events('type=push.recorded')).some((one) => one.data.branch === 'fix-r1'),
    );
  });

  it('is the same when it is asked for again, also with work on it', async () => {
    const again = async () => JSON.parse((await world.cli('run', 'start', '--from', 'shop/production', '--json')).out);
    expect(await again()).toMatchObject({ branch: 'fix-r1', how: 'there', commit: { id: live } });
    await checkout.git('switch', '-q', '-c', 'fix-r1', 'origin/fix-r1');
    const fixed = await checkout.commitAndPush(app('mended'), 'Mend it', 'fix-r1');
    await world.waitRun('shop', fixed);
    expect(await again()).toMatchObject({ how: 'there' });
    await checkout.git('fetch', '-q', 'origin');
    expect(await checkout.git('rev-parse', 'origin/fix-r1')).toBe(fixed);
  });

  it('goes through the environments, and is said to be live and not in main until it is', async () => {
    const fixed = await checkout.git('rev-parse', 'HEAD');
    const run = await world.waitRun('shop', fixed);
    const deployed = await world.act('shop', 'staging', { kind: 'deploy', release: run.release as number });
    expect((await world.waitDeployment('shop', deployed.number)).state).toBe('live');
    expect((await world.environment('shop', 'staging')).besideMain.map(({ title }) => title)).toEqual(['Mend it']);
    const promoted = await world.act('shop', 'production', { kind: 'promote', release: run.release as number });
    expect((await world.waitDeployment('shop', promoted.number)).state).toBe('live');
    const shown = await world.cli('environment', 'show', 'shop/production');
    expect(shown.out).toMatch(/Live and not in main: 1 commit\n.*Mend it/);
    expect((await world.cli('board')).out).toMatch(/production .* not in main: Mend it\n/);
    // What is not finished did not come along.
    expect((await world.visit('shop-production.localhost', '/api')).text).toMatch(/mended/);
    await checkout.git('switch', '-q', 'main');
    await checkout.git('merge', '-q', '-s', 'ours', '-m', 'Merge the mending', 'fix-r1');
    await checkout.push();
    await until('main has it', async () => (await world.environment('shop', 'production')).besideMain.length === 0);
    expect((await world.environment('shop', 'production')).beside).toBeNull();
  });

  it('is refused in words', async () => {
    const start = (...args: string[]) => world.cli('run', 'start', ...args);
    expect((await start()).err).toMatch(/or an environment with --from/);
    expect((await start('main', '--from', 'shop/production')).err).toMatch(/or an environment with --from/);
    expect((await start('--from', 'shop/nowhere')).err).toMatch(/The environment shop\/nowhere/);
    expect((await start('--from', 'shop/production', '--branch', 'main')).err).toMatch(
      /cannot be the name of a branch/,
    );
    for (const branch of ['-x', 'a..b', 'a b', '--upload-pack=x', 'refs/heads/../x'])
      expect((await start('--from', 'shop/production', `--branch=${branch}`)).err).toMatch(
        /cannot be the name of a branch/,
      );
    await checkout.git('push', '-q', 'origin', `${live}:refs/heads/aside`);
    expect((await start('--from', 'shop/production', '--branch', 'aside')).err).toMatch(/does not come from r/);
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'viewer', role: 'viewer' });
    const asked = await world.api(token).raw('POST', '/api/projects/shop/environments/production/branch', {
      body: {},
      headers: { 'idempotency-key': 'a key of its own' },
    });
    expect(asked.status).toBe(403);
  });

  it('is asked for by several at once and made once', async () => {
    const answers = await Promise.all(
      ['a', 'b', 'c', 'd'].map((key) =>
        world
          .api()
          .post<FromLive>(
            '/api/projects/shop/environments/production/branch',
            { branch: 'together' },
            `the key ${key}`,
          ),
      ),
    );
    expect(answers.map(({ how }) => how).sort()).toEqual(['made', 'there', 'there', 'there']);
    expect(
      await world
        .api()
        .post<FromLive>('/api/projects/shop/environments/production/branch', { branch: 'together' }, 'the key a'),
    ).toEqual(answers[0]);
  });
});
