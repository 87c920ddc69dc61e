/** Refs of pull requests, as they stood at the last look at a source. */
import { type Db, json, query, queryOne } from '../database.js';

/** Number → commit. */
export async function pulledOf(db: Db, project: string): Promise<Map<number, string>> {
  const rows = await query<{ number: number; head: string }>(
    db,
    'select number, head from pulled where project_id = $1',
    [project],
  );
  return new Map(rows.map(({ number, head }) => [number, head]));
}

/** What is there at the first look is known from then on. False where there was one before, or the pattern is another by now. */
export async function beginPulled(
  db: Db,
  project: string,
  pattern: string,
  heads: ReadonlyMap<number, string>,
): Promise<boolean> {
  const first = await queryOne(
    db,
    'update projects set pull_refs_at = now() where id = $1 and pull_refs = $2 and pull_refs_at is null returning 1 as ok',
    [project, pattern],
  );
  if (!first) return false;
  await query(
    db,
    `insert into pulled (project_id, number, head)
     select $1, p.number, p.head from jsonb_to_recordset($2::jsonb) as p(number int, head text) on conflict do nothing`,
    [project, json([...heads].map(([number, head]) => ({ number, head })))],
  );
  return true;
}

/** How one stands now; null: it is there no more. */
export const putPulled = (db: Db, project: string, number: number, head: string | null): Promise<unknown> =>
  head === null
    ? query(db, 'delete from pulled where project_id = $1 and number = $2', [project, number])
    : query(
        db,
        'insert into pulled (project_id, number, head) values ($1, $2, $3) on conflict (project_id, number) do update set head = $3',
        [project, number, head],
      );

/** Other refs are looked at from now on, or none. */
export async function setPullRefs(db: Db, project: string, pattern: string | null): Promise<void> {
  await query(db, 'update projects set pull_refs = $2, pull_refs_at = null where id = $1', [project, pattern]);
  await query(db, 'delete from pulled where project_id = $1', [project]);
}
