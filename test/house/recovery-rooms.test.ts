import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, it } from '@jest/globals';
import { inTurn } from './turn.js';
import {
  app,
  preparedDefinition,
  askOften,
  checkHouse,
  type Checkout,
  noteRoom,
  openWorld,
  until,
  type World,
} from './world.js';

/**
 * Every recorded transition of the thread, at which agent and edge are killed before and after the commit. A push shares a few
 * that stand well apart: a task whose agent goes away three times has failed, rightly.
 */
const transitions = [
  ['push.intended', 'run.planned', 'instance.ready'],
  ['push.recorded', 'attempt.reported', 'deployment.starting', 'deployment.live'],
  ['run.advanced', 'attempt.ended', 'deployment.cutover', 'instance.over'],
  ['log.kept', 'environment.taken', 'deployment.verifying', 'edge.acknowledged'],
  ['attempt.given', 'release.made', 'deployment.preparing', 'feed.numbered'],
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

describe('agent and edge, killed', () => {
  const cases = (['agent', 'edge'] as const).flatMap((room) =>
    ['before', 'after'].flatMap((side) =>
      transitions.map((names) => [room, side, names.map((name) => `${name}:${side}`)] as const),
    ),
  );

  it.each(inTurn(cases))('the %s, %s the commit of %j', async (room, side, points) => {
    const noted = noteRoom(world, room);
    const file = join(world.folder, 'crash-at');
    try {
      writeFileSync(file, points.map((point) => `${point} ${noted.path}`).join('\n'));
      const left = () => readFileSync(file, 'utf8').split('\n').filter(Boolean);
      // A point that was passed while the room was coming up again is met by another push.
      for (let push = 1; left().length > 0; push++) {
        const text = `${room} ${side} ${points[0]} ${push}`;
        if (push > 6) throw new Error(`never met: ${left().join(', ')}`);
        // Given apart from the step that made it is what belongs to another run.
        if (left().some((point) => point.startsWith('attempt.given'))) await askOften(world, 'shop');
        const commit = await checkout.commitAndPush(app(text), text);
        await world.waitLive('shop', 'staging', commit);
        await until(
          'the edge answers',
          async () => (await world.visit('shop-staging.localhost', '/api')).status === 200,
        );
        await checkHouse(world, commit, text);
      }
    } finally {
      noted.stop();
      writeFileSync(file, '');
    }
  });
});
