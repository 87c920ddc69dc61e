/**
 * Rows that somebody works on outside of transactions: `due_at` says when one is to be taken, `lease_until` how long whoever took it
 * holds it, and `fence` counts those who have. A write of whoever has lost it names an old fence and changes nothing.
 */
import { type Db, query, queryOne } from './database.js';

export type HeldTable =
  | 'resources'
  | 'backups'
  | 'addresses'
  | 'subscriptions'
  | 'destinations'
  | 'snapshots'
  | 'pictures';

export interface Held {
  id: string;
  fence: string;
}

/**
 * Takes the one that has waited longest, for `leaseMs`. Whoever held it before and has died, or is late, has lost it: its fence is
 * another one now.
 */
export const takeHeld = <T>(db: Db, table: HeldTable, columns: string, leaseMs: number): Promise<T | null> =>
  queryOne<T>(
    db,
    `update ${table} set due_at = null, fence = fence + 1, lease_until = now() + $1::int * interval '1 ms'
     where id = (
       select id from ${table}
       where (due_at <= now() and lease_until is null) or lease_until < now()
       order by coalesce(due_at, lease_until) for update skip locked limit 1)
     returning ${columns}`,
    [leaseMs],
  );

/** Milliseconds until the next is to be taken, or null. */
export const nextHeld = async (db: Db, table: HeldTable): Promise<number | null> =>
  (
    await queryOne<{ ms: number | null }>(
      db,
      `select (extract(epoch from least(
         (select min(due_at) from ${table} where due_at is not null and lease_until is null),
         (select min(lease_until) from ${table} where lease_until is not null)) - now()) * 1000)::float8 as ms`,
    )
  )?.ms ?? null;

/** Holds it longer; false when it is somebody else's by now. */
export const holdLonger = async (db: Db, table: HeldTable, { id, fence }: Held, leaseMs: number): Promise<boolean> =>
  (await queryOne(
    db,
    `update ${table} set lease_until = now() + $3::int * interval '1 ms' where id = $1 and fence = $2::bigint returning 1 as ok`,
    [id, fence, leaseMs],
  )) !== null;

/** Nothing is to be done on it. */
export const letGo = (db: Db, table: HeldTable, { id, fence }: Held): Promise<unknown> =>
  query(db, `update ${table} set lease_until = null where id = $1 and fence = $2::bigint`, [id, fence]);

/** Lets it go, to be taken again after a while; at once where somebody has woken it meanwhile. */
export const putOff = (db: Db, table: HeldTable, { id, fence }: Held, ms: number): Promise<unknown> =>
  query(
    db,
    `update ${table} set lease_until = null, due_at = least(due_at, now() + $3::float8 * interval '1 ms') where id = $1 and fence = $2::bigint`,
    [id, fence, ms],
  );
