/** Chores: asked for, taken by the agent of their volume, told. What may follow on what is core/advance/chores.ts. */
import type { InferAttributes } from 'sequelize';
import { changes } from '../../core/advance/chores.js';
import type { Issue } from '../../core/errors/errors.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import type { Chore } from '../models/resources/chores.js';

export type ChoreRow = InferAttributes<Chore>;

const columns =
  'id, volume_id, agent_id, act, turn, size::text as size, digest, state, fence::text as fence, kept_digest, kept_bytes::text as kept_bytes, found, issue, since, created_at, ended_at';

export interface NewChore {
  volume: string;
  agent: string;
  act: ChoreRow['act'];
  turn: string;
  size: number | null;
  digest: string | null;
}

/** Asks for one, under the lock of its volume; one of the same wish is there already where it was asked for before. */
export async function askChore(db: Db, one: NewChore): Promise<ChoreRow> {
  const same = await queryOne<ChoreRow>(
    db,
    `select ${columns} from chores where volume_id = $1 and act = $2 and turn = $3 and state in ('asked', 'given')`,
    [one.volume, one.act, one.turn],
  );
  if (same) return same;
  if (changes(one.act))
    await query(
      db,
      `update chores set state = 'dropped', fence = fence + 1, since = now(), ended_at = now()
       where volume_id = $1 and state in ('asked', 'given') and (act in ('make', 'enlarge', 'restore', 'remove') or $2 = 'remove')`,
      [one.volume, one.act],
    );
  const row = await queryOne<ChoreRow>(
    db,
    `insert into chores (id, volume_id, agent_id, act, turn, size, digest) values ($1, $2, $3, $4, $5, $6, $7) returning ${columns}`,
    [newId(), one.volume, one.agent, one.act, one.turn, one.size, one.digest],
  );
  await notify(db, 'work');
  return row as ChoreRow;
}

export const choreById = (db: Db, id: string): Promise<ChoreRow | null> =>
  queryOne(db, `select ${columns} from chores where id = $1`, [id]);

/** The same, where an agent holds it under this fence. */
export const heldChore = (db: Db, id: string, agent: string, fence: string): Promise<ChoreRow | null> =>
  queryOne(
    db,
    `select ${columns} from chores where id = $1 and agent_id = $2 and fence = $3::bigint and state = 'given' for update`,
    [id, agent, fence],
  );

/** A wish that was fulfilled already. */
export const doneChore = (
  db: Db,
  { volume, act, turn }: Pick<NewChore, 'volume' | 'act' | 'turn'>,
): Promise<ChoreRow | null> =>
  queryOne(
    db,
    `select ${columns} from chores where volume_id = $1 and act = $2 and turn = $3 and state = 'done' order by created_at desc limit 1`,
    [volume, act, turn],
  );

/** What an agent has, or should have; and whether one waits for it. */
export async function choresFor(db: Db, agent: string): Promise<{ held: ChoreRow[]; waits: boolean }> {
  const rows = await query<ChoreRow>(
    db,
    `select ${columns} from chores where agent_id = $1 and state in ('asked', 'given')`,
    [agent],
  );
  return { held: rows.filter((row) => row.state === 'given'), waits: rows.some((row) => row.state === 'asked') };
}

/** Gives an agent what waits for it. */
export const claimChores = (db: Db, agent: string, most: number): Promise<ChoreRow[]> =>
  query(
    db,
    `update chores set state = 'given', since = now(), fence = fence + 1
     where id in (select id from chores where agent_id = $1 and state = 'asked' order by created_at limit $2 for update skip locked)
     returning ${columns}`,
    [agent, most],
  );

/** An agent that has begun anew has none of those of before. */
export const returnChores = (db: Db, agent: string): Promise<unknown> =>
  query(
    db,
    `update chores set state = 'asked', fence = fence + 1, since = now(), kept_digest = null, kept_bytes = null
     where agent_id = $1 and state = 'given'`,
    [agent],
  );

export const keepBytes = (db: Db, id: string, digest: string, bytes: number): Promise<unknown> =>
  query(db, 'update chores set kept_digest = $2, kept_bytes = $3 where id = $1', [id, digest, bytes]);

export async function endChore(
  db: Db,
  id: string,
  state: 'done' | 'failed',
  { found, issue }: { found: ChoreRow['found']; issue: Issue | null },
): Promise<void> {
  await query(
    db,
    'update chores set state = $2, found = $3, issue = $4, since = now(), ended_at = now() where id = $1',
    [id, state, found === null ? null : json(found), issue === null ? null : json(issue)],
  );
  await notify(db, 'chores');
}

/** Nobody wants it any more. */
export async function dropChore(db: Db, id: string): Promise<void> {
  await query(
    db,
    `update chores set state = 'dropped', fence = fence + 1, since = now(), ended_at = now() where id = $1 and state in ('asked', 'given')`,
    [id],
  );
  await notify(db, 'work');
}

export const forgetChores = (db: Db): Promise<unknown> =>
  query(db, `delete from chores where ended_at < now() - interval '30 days'`);
