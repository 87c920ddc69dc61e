/** Numbers events in the order of their transactions, and seals them. */
import { sealHash } from '../keys/keys.js';
import { numberEvents, sealEvents } from '../records/events.js';
import type { Context } from './context.js';

/** What is left, or comes meanwhile, is told by `feedDue` and gathered. */
export async function stepFeed(context: Context): Promise<boolean> {
  await context.records.transition('feed.numbered', (db) => numberEvents(db));
  return false;
}

/** Milliseconds until to look again while there are events without a number (their transaction, or an older one, is still open). */
export async function feedDue(context: Context): Promise<number | null> {
  const row = await context.records.one('select 1 as ok from events where number is null limit 1');
  return row ? 20 : null;
}

/** How often events are sealed, in milliseconds. */
export const sealEvery = 60_000;

export async function stepSeals(context: Context): Promise<boolean> {
  await context.records.transition('events.sealed', (db) => sealEvents(db, sealHash, (hash) => context.keys.sign(hash)));
  return false;
}
