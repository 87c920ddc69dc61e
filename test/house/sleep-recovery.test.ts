/** Service, agent and edge are killed at every step of sleep and wake: whoever comes then is answered, and nothing is left over. */
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { inTurn } from './turn.js';
import { type Checkout, noteRoom, openWorld, until, type World } from './world.js';

const server = `import { createServer } from 'node:http';
let asked = 0;
createServer((request, response) => response.end(JSON.stringify({ pid: process.pid, asked: asked++ }))).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts:
    api: { kind: server, files: [server.js, package.json], start: node server.js, ready: / }
    bell: { kind: worker, files: [worker.js, package.json], start: node worker.js }
environments:
  review: { for: pull requests }
`;

let world: World;
let checkout: Checkout;
const name = 'on-winter';
const host = 'on-winter-shop.review.localhost';
beforeAll(async () => {
  world = await openWorld({ timing: { lease: 20_000 } });
  ({ checkout } = await world.hosted('shop', {
    'server.js': server,
    'worker.js': 'setInterval(() => {}, 1000);\n',
    'package.json': '{ "type": "module" }\n',
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await until('the definition counts', async () => (await world.events('type=definition.accepted')).length > 0);
  await checkout.git('checkout', '-qb', 'winter');
  const commit = await checkout.commit({ 'server.js': `${server}//\n` }, 'Winter');
  await checkout.push('winter');
  await world.api().post('/api/projects/shop/reviews', { branch: 'winter' });
  await world.waitLive('shop', name, commit);
});
afterAll(() => world?.close());

const review = () => world.environment('shop', name);
const post = (act: string) => world.api().post(`/api/projects/shop/environments/${name}/${act}`);
const answers = () =>
  until('it answers', async () => {
    const answer = await world.visit(host, '/');
    return answer.status === 200 ? answer : null;
  });
/** All of it runs, each once, and nothing else does. */
const whole = () =>
  until('all of it runs, each once', async () => {
    const one = await review();
    const own = one.instanceList.filter((item) => ['waiting', 'starting', 'ready', 'frozen'].includes(item.state));
    const shown = own.map((item) => `${item.part} ${item.state} ${item.wanted}`).sort();
    if (one.state === 'live' && String(shown) === 'api ready true,bell ready true') return one;
    throw new Error(`${one.state}: ${shown.join(', ')}`);
  });

/** On the way to sleep, and on the way to be awake again. */
const points = [
  ['environment.wished', 'environment.woken'],
  ['environment.falling-asleep', 'instance.stood'],
  ['instance.stood', 'edge.acknowledged'],
] as const;

describe('sleep and wake, killed', () => {
  const cases = (['service', 'agent', 'edge'] as const).flatMap((room) =>
    (['before', 'after'] as const).flatMap((side) => points.map(([down, up]) => [room, side, down, up] as const)),
  );

  it.each(inTurn(cases))('the %s, %s the commit, at %s and at %s', async (room, side, down, up) => {
    await whole();
    const noted = noteRoom(world, room);
    const file = join(world.folder, 'crash-at');
    const armed = async (point: string) => {
      // What was killed just now is there again.
      await until(`the ${room} is up`, async () => existsSync(`/proc/${world.house.rooms[room].pid() ?? 'none'}`));
      noted.note();
      writeFileSync(file, `${point}:${side} ${noted.path}`);
    };
    const met = (point: string) => until(`${point} was met`, async () => readFileSync(file, 'utf8').trim() === '');
    try {
      await armed(down);
      // Whoever asks may hear nothing of it: they ask again.
      await until('it is asked to sleep', async () => {
        await post('sleep');
        return true;
      });
      const asleep = await until('it sleeps', async () => {
        const one = await review();
        return one.state === 'asleep' ? one : null;
      });
      expect(asleep.review?.depth).toBe('frozen');
      await met(down);
      await armed(up);
      await answers();
      await whole();
      await met(up);
    } finally {
      noted.stop();
      writeFileSync(file, '');
    }
  });

  it('ends what an agent has left frozen when that never comes back as it was', async () => {
    await post('sleep');
    const asleep = await until('it sleeps', async () => {
      const one = await review();
      return one.state === 'asleep' ? one : null;
    });
    expect(asleep.review?.depth).toBe('frozen');
    await world.restart();
    await answers();
    await whole();
  });

  it('closes while it sleeps, with nothing left of it', async () => {
    await post('sleep');
    await until('it sleeps', async () => (await review()).state === 'asleep');
    await post('close');
    const closed = await until('it is closed', async () => {
      const one = await review();
      return one.state === 'closed' ? one : null;
    });
    expect(closed.instanceList.filter((item) => item.state === 'frozen' || item.state === 'ready')).toEqual([]);
    expect((await world.visit(host, '/')).status).toBe(404);
  });
});
