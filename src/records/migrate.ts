import { setTimeout as pause } from 'node:timers/promises';
import { type Db, lockedByOthers, type Records, query } from './database.js';
import * as thread from './migrations/001-thread.js';
import * as reuse from './migrations/002-reuse.js';
import * as space from './migrations/003-space.js';
import * as start from './migrations/004-start.js';
import * as ground from './migrations/005-ground.js';
import * as steps from './migrations/006-steps.js';
import * as words from './migrations/007-words.js';
import * as claims from './migrations/008-claims.js';
import * as targets from './migrations/009-targets.js';
import * as environments from './migrations/010-environments.js';
import * as addresses from './migrations/011-addresses.js';
import * as deliveries from './migrations/012-deliveries.js';
import * as jobs from './migrations/013-jobs.js';
import * as prices from './migrations/014-prices.js';
import * as terminals from './migrations/015-terminals.js';
import * as destinations from './migrations/016-destinations.js';
import * as beginnings from './migrations/017-beginnings.js';
import * as volumes from './migrations/018-volumes.js';
import * as sizes from './migrations/019-sizes.js';
import * as pulls from './migrations/020-pulls.js';
import * as sleep from './migrations/021-sleep.js';
import * as snapshots from './migrations/022-snapshots.js';
import * as gate from './migrations/023-gate.js';
import * as outside from './migrations/024-outside.js';
import * as pullRefs from './migrations/025-pull-refs.js';
import * as pictures from './migrations/026-pictures.js';
import * as copiedVolumes from './migrations/027-copied-volumes.js';
import * as rules from './migrations/028-rules.js';
import * as cutovers from './migrations/029-cutovers.js';
import * as madeOf from './migrations/030-made-of.js';
import * as imports from './migrations/031-imports.js';
import * as joints from './migrations/032-joints.js';
import * as delivery from './migrations/033-delivery.js';
import * as sharedEnds from './migrations/034-shared-ends.js';
import * as safeGround from './migrations/035-safe-ground.js';
import * as steadyLoops from './migrations/036-steady-loops.js';

/** In the order in which they run. A migration that has landed is never changed. */
export const migrations: readonly { name: string; up: string }[] = [
  thread,
  reuse,
  space,
  start,
  ground,
  steps,
  words,
  claims,
  targets,
  environments,
  addresses,
  deliveries,
  jobs,
  prices,
  terminals,
  destinations,
  beginnings,
  volumes,
  sizes,
  pulls,
  sleep,
  snapshots,
  gate,
  outside,
  pullRefs,
  pictures,
  copiedVolumes,
  rules,
  cutovers,
  madeOf,
  imports,
  joints,
  delivery,
  sharedEnds,
  safeGround,
  steadyLoops,
];

const lock = 7_403_121;

/** Milliseconds for which a migration may wait for a table: who asks for that table meanwhile stands behind it. */
const lockMs = 3_000;
/** Milliseconds until one that has waited in vain is tried again, and how often. */
const againMs = 2_000;
const mostTries = 150;

/**
 * Brings the tables up to date, each migration in a transaction of its own: no table is locked for longer than its own migration takes.
 * Several services may call it at once: one does it, the others wait. One that dies goes on where it was.
 * @param upTo the name of the last migration to run; default: all
 * @throws where a migration fails, or a table stays locked by others for several minutes
 */
export async function migrate(records: Records, upTo?: string): Promise<void> {
  const last = upTo === undefined ? migrations.length : migrations.findIndex(({ name }) => name === upTo) + 1;
  const wanted = migrations.slice(0, last);
  let tries = 0;
  for (let more = true; more; )
    try {
      more = await records.transition('records.migrated', (db) => migrateNext(db, wanted));
      tries = 0;
    } catch (error) {
      if (!lockedByOthers(error) || ++tries >= mostTries) throw error;
      await pause(againMs);
    }
}

/** Runs the first one that has not run yet; whether there may be more. */
async function migrateNext(db: Db, wanted: typeof migrations): Promise<boolean> {
  await query(db, 'select pg_advisory_xact_lock($1)', [lock]);
  await query(
    db,
    'create table if not exists migrations (name text primary key, at timestamptz not null default now())',
  );
  const ran = new Set((await query<{ name: string }>(db, 'select name from migrations')).map(({ name }) => name));
  const next = wanted.find(({ name }) => !ran.has(name));
  if (!next) return false;
  // Set after our own lock is had: for that one may wait as long as another service needs.
  await query(db, `set local lock_timeout = ${lockMs}`);
  await query(db, next.up);
  await query(db, 'insert into migrations (name) values ($1)', [next.name]);
  return true;
}
