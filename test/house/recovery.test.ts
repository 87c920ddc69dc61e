import { execFileSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { inTurn } from './turn.js';
import {
  allEvents,
  api,
  app,
  preparedDefinition,
  askOften,
  type Checkout,
  checkHouse,
  openWorld,
  until,
  type World,
} from './world.js';

/** Every recorded transition of the thread, at which the service is killed before and after the commit. Several share one push. */
const transitions = [
  ['push.intended', 'run.planned', 'release.made', 'deployment.starting', 'instance.over'],
  ['push.recorded', 'attempt.reported', 'deployment.cutover', 'deployment.live'],
  ['run.advanced', 'environment.taken', 'instance.ready'],
  ['attempt.given', 'deployment.verifying'],
  ['attempt.ended', 'log.kept', 'deployment.preparing', 'edge.acknowledged', 'feed.numbered'],
];

let world: World;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld({ timing: { lease: 5_000 } });
  let first: string;
  ({ checkout, first } = await world.hosted('shop', { ...app('start'), 'tsunagi.yaml': preparedDefinition }));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
});
afterAll(() => world?.close());

describe('the service, killed', () => {
  it.each(
    inTurn(
      transitions.flatMap((names) => ['before', 'after'].map((side) => names.map((name) => `${name}:${side}`))),
    ).map((points) => [points.join(', '), points] as const),
  )('at %s goes on where it stood', async (text, points) => {
    const file = join(world.folder, 'crash-at');
    writeFileSync(file, points.join('\n'));
    // A point that had been passed when another one killed the service is met by another push.
    for (let push = 1; readFileSync(file, 'utf8') !== ''; push++) {
      if (push > 4) throw new Error(`never met: ${readFileSync(file, 'utf8')}`);
      const words = `${text} ${push}`;
      // Given apart from the step that made it is what belongs to another run.
      if (points.some((point) => point.startsWith('attempt.given'))) await askOften(world, 'shop');
      const commit = await checkout.commit(app(words), words);
      await until('the push is answered', async () => {
        await checkout.push();
        return true;
      });
      await checkHouse(world, commit, words);
      // Some come late: what was replaced ends when all else is done.
      await until('all are met', async () => readFileSync(file, 'utf8') === '', 6_000).catch(() => {});
    }
    await until('it answers again', async () => (await fetch(`${world.url}/api/health`)).ok);
    expect(readFileSync(file, 'utf8')).toBe('');
  });

  it.each(['before', 'after'])(
    '%s the first step of a deployment that a person asked for, goes on with it',
    async (side) => {
      const file = join(world.folder, 'crash-at');
      writeFileSync(file, `deployment.queued:${side}`);
      const asked = await until('it is asked for', () =>
        world.act('shop', 'staging', { kind: 'deploy', release: side === 'before' ? 1 : 2 }),
      );
      await until('it was met', async () => readFileSync(file, 'utf8') === '');
      await until('it answers again', async () => (await fetch(`${world.url}/api/health`)).ok);
      expect((await world.waitDeployment('shop', asked.number)).state).toBe('live');
    },
  );

  it('answers an act that it had recorded, when it is asked again with the same key', async () => {
    const before = (await world.environment('shop', 'staging')).history.length;
    const ask = (key: string) =>
      world
        .api()
        .post<{ number: number }>(
          '/api/projects/shop/environments/staging/deployments',
          { kind: 'deploy', release: 1 },
          key,
        );
    writeFileSync(join(world.folder, 'crash-at'), 'deployment.requested:after');
    await expect(ask('the key of this act')).rejects.toThrow();
    const again = await until('the same answer', () => ask('the key of this act'));
    await world.waitDeployment('shop', again.number);
    expect((await world.environment('shop', 'staging')).history.length).toBe(before + 1);
  });
});

describe('others, killed', () => {
  const pidsOf = (part: string) =>
    execFileSync('ps', ['-eo', 'pid,args'], { encoding: 'utf8' })
      .split('\n')
      .filter((line) => line.includes(part))
      .map((line) => Number(line.trim().split(' ')[0]));

  it('the agent comes back and adopts its instances, which served all the while', async () => {
    const commit = await checkout.commitAndPush(app('adopted'), 'adopted');
    const { live } = await world.waitLive('shop', 'staging', commit);
    // Older ones that are warm may come to their end meanwhile.
    const serving = async () =>
      (await world.environment('shop', 'staging')).instanceList
        .filter(
          (one) => one.deployment === live?.number && one.kind === 'server' && one.state === 'ready' && one.wanted,
        )
        .map((one) => one.id)
        .sort();
    const instances = await serving();
    expect(instances.length).toBeGreaterThan(0);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    for (let n = 0; n < 40; n++) expect((await world.visit('shop-staging.localhost', '/api')).status).toBe(200);
    await until('the agent registers again', async () => (await world.events('type=agent.registered')).length >= 2);
    await new Promise((resolve) => setTimeout(resolve, 9_000));
    expect(await serving()).toEqual(instances);
    expect(await world.environment('shop', 'staging')).toMatchObject({ health: 'good' });
  });

  it('an attempt whose agent went away is lost and follows; nothing of it runs on', async () => {
    const commit = await checkout.commitAndPush(
      { 'tsunagi.yaml': 'tsunagi: 1\ntasks:\n  long: { reads: [], run: "echo begun; sleep 4.321" }\n' },
      'long',
    );
    await until('it runs', async () => pidsOf('sleep 4.321').length > 0);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    const run = await world.waitRun('shop', commit);
    expect(pidsOf('sleep 4.321')).toEqual([]);
    expect(run).toMatchObject({
      state: 'passed',
      taskList: [{ attempts: [{ state: 'lost', issue: { code: 'agent_lost' } }, { state: 'passed' }] }],
    });
    const lost = run.taskList[0]?.attempts[0];
    const tokens = JSON.parse(readFileSync(join(world.folder, 'house/tokens.json'), 'utf8'));
    const late = await api(world.url, tokens.agent).raw('POST', `/api/agent/attempts/${lost?.id}/report`, {
      body: { fence: '1', happenings: [{ what: 'ended', state: 'passed', issue: null, output: null, tests: null }] },
    });
    expect(late).toMatchObject({ status: 409, body: { code: 'fence_old' } });
    await checkout.commitAndPush({ ...app('on'), 'tsunagi.yaml': preparedDefinition }, 'back to the app');
  });

  it('the edge comes back with its last table, also while the service is away', async () => {
    await until(
      'live',
      async () =>
        (await world.environment('shop', 'staging')).moving === null &&
        JSON.parse((await world.visit('shop-staging.localhost', '/api')).text).text === 'on',
    );
    process.kill(world.house.rooms.service.pid() as number, 'SIGSTOP');
    process.kill(world.house.rooms.edge.pid() as number, 'SIGKILL');
    await until('the edge answers', async () => (await world.visit('shop-staging.localhost', '/api')).status === 200);
    expect((await world.visit('shop-staging.localhost')).text).toContain('<h1>on</h1>');
    process.kill(world.house.rooms.service.pid() as number, 'SIGCONT');
    const commit = await checkout.commitAndPush(app('after the edge'), 'after the edge');
    await world.waitLive('shop', 'staging', commit);
  });

  it('the database comes back and everything goes on', async () => {
    process.kill(world.house.rooms.database.pid() as number, 'SIGKILL');
    expect((await world.visit('shop-staging.localhost', '/api')).status).toBe(200);
    await until('the service answers', async () => (await fetch(`${world.url}/api/health`)).ok);
    const commit = await checkout.commit(app('after the database'), 'after the database');
    // It may be asked for its records before they are all there.
    await until('the push is answered', async () => {
      await checkout.push();
      return true;
    });
    await checkHouse(world, commit, 'after the database');
  });

  it('all of it ends and starts again with the same data', async () => {
    await world.restart();
    await until(
      'the same answer',
      async () => JSON.parse((await world.visit('shop-staging.localhost', '/api')).text).text === 'after the database',
    );
    await until('good health', async () => (await world.environment('shop', 'staging')).health === 'good');
  });
});

describe('what happened', () => {
  it('is numbered without a gap, in the order in which each thing went on', async () => {
    const all = await allEvents(world);
    expect(all.map((one) => Number(one.sequence))).toEqual(all.map((_, at) => at + 1));
    const ended = all.filter((one) => one.type === 'dev.tsunagi.run.ended');
    for (const one of ended) {
      const planned = all.find((other) => other.type === 'dev.tsunagi.run.planned' && other.subject === one.subject);
      expect(Number(planned?.sequence)).toBeLessThan(Number(one.sequence));
    }
    expect(new Set(ended.map((one) => one.subject)).size).toBe(ended.length);
  });
});
