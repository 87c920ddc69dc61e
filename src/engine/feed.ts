/** Numbers events in the order of their transactions, and seals them. */
import { sealHash } from '../keys/keys.js';
import { numberEvents, sealEvents } from '../records/events.js';
import type { Context } from './context.js';

/** What is left, or comes meanwhile, is told by `due` and gathered. */
export function makeFeed(context: Context): { step(): Promise<boolean>; due(): Promise<number | null> } {
  let waiting = false;
  return {
    async step() {
      waiting = (await context.records.single('feed.numbered', numberEvents)).left;
      return false;
    },
    /** Milliseconds until to look again while there are events without a number (their transaction, or an older one, is still open). */
    due: async () => (waiting ? 20 : null),
  };
}

/** How often events are sealed, in milliseconds. */
export const sealEvery = 60_000;

export async function stepSeals(context: Context): Promise<boolean> {
  await context.records.transition('events.sealed', (db) =>
    sealEvents(db, sealHash, (hash) => context.keys.sign(hash)),
  );
  return false;
}
