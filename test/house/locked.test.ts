/** An environment whose row is locked delays no other environment of its project. */
import { afterAll, beforeAll, expect, it } from '@jest/globals';
import { rowLock } from '../../src/records/locks.js';
import { app, appDefinition, type Checkout, connectRecords, openWorld, type World } from './world.js';

let world: World;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('pier', { ...app('one'), 'tsunagi.yaml': appDefinition }));
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
  await world.cli('promote', '--to', 'pier/production');
  await world.waitLive('pier', 'production', first);
});
afterAll(() => world?.close());

it('a push goes live in staging while the row of production is held', async () => {
  const holder = await connectRecords(world);
  try {
    await holder.query('begin');
    // As a cutover there holds it: records/locks.ts.
    const { rowCount } = await holder.query(`select id from environments where name = 'production' ${rowLock}`);
    expect(rowCount).toBe(1);
    const second = await checkout.commitAndPush(app('two'), 'The second one');
    await world.waitLive('pier', 'staging', second);
    expect((await world.visit('pier-staging.localhost', '/')).text).toContain('two');
  } finally {
    await holder.query('rollback');
    await holder.end();
  }
});
