/**
 * One order of locks for all transactions: environments first, then deployments, each by ascending id. Two transactions that both keep
 * it never wait for each other in a circle. In tests (TSUNAGI_STRICT_LOCKS=1) a transaction that breaks it throws.
 */
import { type Db, heldLocks } from './database.js';

const order = ['environments', 'deployments'] as const;
type Locked = (typeof order)[number];

/**
 * The lock of such a row. It keeps out everybody who locks or changes the row, and nobody who adds one that refers to it: a foreign key
 * asks for KEY SHARE, which FOR UPDATE would keep waiting (PostgreSQL, 13.3.2). What is counted of a whole project refers to all of its
 * environments, and would wait for each that is locked.
 */
export const rowLock = 'for no key update';

/** A subquery that locks the rows of a condition and returns their ids in order. `where` is SQL of ours, with `$1` … bound. */
export const lockedIds = (table: Locked, where: string): string =>
  `select id from ${table} where ${where} order by id ${rowLock}`;

/** Rows as their statement locked them, where it returned them in another order. */
export const inOrder = <Row extends { id: string }>(rows: readonly Row[]): Row[] =>
  [...rows].sort((a, b) => (a.id < b.id ? -1 : 1));

const strict = process.env.TSUNAGI_STRICT_LOCKS === '1';

/** Notes what a statement has locked. Throws in tests where a row comes before one that this transaction has locked already. */
export function noteLocks(db: Db, table: Locked, rows: readonly { id: string }[]): void {
  const held = strict ? heldLocks(db) : undefined;
  if (!held) return;
  const level = order.indexOf(table);
  for (const { id } of rows) {
    const key = `${level} ${id}`;
    if (held.all.has(key)) continue;
    if (held.last !== null && key < held.last)
      throw new Error(`lock order: ${table} ${id} after ${held.last} (records/locks.ts)`);
    held.all.add(key);
    held.last = key;
  }
}
