/** What stands on database servers and belongs to nothing that is recorded. */
import { type Db, query, queryOne } from '../database.js';

/** Of these ids of resources or logins: what is recorded of each. `over`: it is recorded that nothing of it is left. */
export async function recorded(
  db: Db,
  table: 'resources' | 'logins',
  ids: readonly string[],
): Promise<Map<string, { over: boolean }>> {
  const rows = await query<{ id: string; over: boolean }>(
    db,
    `select id, state in ('removed', 'ended') as over from ${table} where id = any($1::uuid[])
     union all select id, state in ('removed', 'failed') from snapshots where id = any($1::uuid[])`,
    [ids],
  );
  return new Map(rows.map(({ id, over }) => [id, { over }]));
}

/** The same of volumes on an agent's machine. */
export async function recordedVolumes(
  db: Db,
  agent: string,
  ids: readonly string[],
): Promise<Map<string, { over: boolean }>> {
  const rows = await query<{ id: string; over: boolean }>(
    db,
    `select id, state = 'removed' as over from volumes where id = any($2::uuid[]) and agent_id = $1`,
    [agent, ids],
  );
  return new Map(rows.map(({ id, over }) => [id, { over }]));
}

/** Keeps since when a stray is known; gives the milliseconds since then, and whether it is new. */
export async function noteStray(db: Db, place: string, name: string): Promise<{ ms: number; fresh: boolean }> {
  const row = await queryOne<{ ms: number; fresh: boolean }>(
    db,
    `insert into strays as s (place, name) values ($1, $2)
     on conflict (place, name) do update set name = s.name
     returning (extract(epoch from now() - s.found_at) * 1000)::float8 as ms, s.xmax = 0 as fresh`,
    [place, name],
  );
  return row ?? { ms: 0, fresh: false };
}

/** Those of a place that are none any more are forgotten. */
export const forgetStrays = (db: Db, place: string, still: readonly string[]): Promise<unknown> =>
  query(db, 'delete from strays where place = $1 and not name = any($2::text[])', [place, still]);

/** Hosts of environments that are closed, whose routes still lead somewhere. */
export const strayRoutes = (db: Db): Promise<{ host: string; environment_id: string }[]> =>
  query(
    db,
    `select r.host, r.environment_id from routes r join environments e on e.id = r.environment_id
     where r.body is not null and e.state = 'closed' limit 100`,
  );
