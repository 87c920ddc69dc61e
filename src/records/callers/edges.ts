/** Edges, and the table that they have: host → what it leads to. */
import { makeDeploymentsDue } from '../deployments/deployments.js';
import { makeEnvironmentsDue } from '../deployments/environments.js';
import type { Issue } from '../../core/errors/errors.js';
import { type Db, json, notify, query, queryOne, tables } from '../database.js';
import { newId } from '../ids.js';

export interface EdgeRow {
  id: string;
  name: string;
  acknowledged: number;
  /** Hosts that it has not as the table says. */
  without: Without;
  seen_at: Date;
  /** From where it last asked; null: not known. */
  address: string | null;
  alive: boolean;
}

/** Host → the version that is not taken over, and why; no issue while it is being made ready. */
export type Without = Record<string, { version: number; issue: Issue | null }>;

/** Whether an edge has a host's table of this version, or why not. */
export function hasTable(
  edge: Pick<EdgeRow, 'acknowledged' | 'without'>,
  host: string,
  version: number,
): { has: boolean; why: Issue | null } {
  const open = edge.without[host];
  return {
    has: edge.acknowledged >= version && !open,
    why: edge.acknowledged >= version ? (open?.issue ?? null) : null,
  };
}

/** Milliseconds after which an edge that has not asked counts as silent. */
export const edgeSilenceMs = 12_000;

/** An edge asks for what is newer than it has: that is its acknowledgement. Null when the name belongs to another token that is still good. */
export async function acknowledge(
  db: Db,
  token: string,
  name: string,
  version: number,
  without: Without = {},
  address: string | null = null,
): Promise<EdgeRow | null> {
  const row = await queryOne<EdgeRow & { before: number; turned: boolean }>(
    db,
    `with old as (select acknowledged, without from edges where name = $3)
     insert into edges (id, token_id, name, acknowledged, without, address) values ($1, $2, $3, $4, $5, $6)
     on conflict (name) do update set token_id = excluded.token_id, acknowledged = excluded.acknowledged, without = excluded.without, seen_at = now(),
       address = excluded.address
     where edges.token_id = excluded.token_id or exists (select 1 from tokens t where t.id = edges.token_id and t.removed_at is not null)
     returning id, name, acknowledged::float8 as acknowledged, without, seen_at, address, true as alive,
       coalesce((select acknowledged from old), -1)::float8 as before, coalesce((select without from old), '{}') <> $5::jsonb as turned`,
    [newId(), token, name, version, json(without), address],
  );
  // What it has without these hosts is known of each of them; else of those alone that it has heard of since it said so last.
  if (row?.turned) await wakeMoving(db);
  else if (row && row.before !== version) await wakeMoving(db, row.before, version);
  return row;
}

/**
 * Environments and deployments that wait for edges to have a table of these versions look again. Locked in the order that all keep:
 * environments, then deployments, each by id.
 */
export async function wakeMoving(db: Db, above = -1, to: number | null = null): Promise<void> {
  const heard = 'table_version > $1 and table_version <= $2';
  const versions = [above, to ?? Number.MAX_SAFE_INTEGER];
  const environments = await makeEnvironmentsDue(db, `state in ('closing', 'falling asleep') and ${heard}`, versions);
  const deployments = await makeDeploymentsDue(
    db,
    `(state in ('cutover', 'verifying', 'starting', 'preparing') or (state in ('replaced', 'failed', 'reverted') and due_at is not null))
       and environment_id in (select id from environments where ${heard})`,
    versions,
  );
  const topics = [...(environments ? ['environments'] : []), ...(deployments ? ['deployments'] : [])];
  if (topics.length) await notify(db, ...topics);
}

/** Edges whose tokens have not been removed: nothing waits for an edge without a token. */
export const listEdges = (db: Db): Promise<EdgeRow[]> =>
  query(
    db,
    `select id, name, acknowledged::float8 as acknowledged, without, seen_at, address, seen_at > now() - $1::int * interval '1 ms' as alive from edges
     where not exists (select 1 from tokens t where t.id = edges.token_id and t.removed_at is not null) order by name`,
    [edgeSilenceMs],
  );

export interface RouteRow {
  host: string;
  body: unknown;
  /** What an authority asks for under the host: the path's last piece → answer. */
  proofs: Record<string, string>;
  version: number;
}

/** A host ($1) of an environment ($2) leads to $3; the version is drawn when the lock is had: versions are committed in their order. */
const put = `held as materialized (select pg_advisory_xact_lock(7403124)),
  put as (
    insert into routes (host, environment_id, body, version)
    select $1::text, $2::uuid, $3::jsonb, nextval('route_versions') from held
    on conflict (host) do update
      set body = excluded.body, environment_id = excluded.environment_id, version = excluded.version
    returning version)`;

/** Puts what a host leads to (null: nothing any more) and gives the version of it. */
export async function putRoute(db: Db, host: string, environment: string, body: unknown): Promise<number> {
  const row = await queryOne<{ version: number }>(db, `with ${put} select version::float8 as version from put`, [
    host,
    environment,
    body === null ? null : json(body),
  ]);
  await notify(db, 'routes');
  return row?.version ?? 0;
}

/** Puts what an environment's own host leads to, and the deployment that has the traffic there; gives the version of it. */
export async function leadTo(
  db: Db,
  { id, host }: { id: string; host: string },
  serving: string | null,
  body: unknown,
): Promise<number> {
  const row = await queryOne<{ version: number }>(
    db,
    `with ${put},
       served as (
         update environments set serving_id = $4::uuid, table_version = (select version from put) where id = $2::uuid)
     select version::float8 as version from put`,
    [host, id, body === null ? null : json(body), serving],
  );
  await notify(db, 'routes');
  return row?.version ?? 0;
}

/** A host leads to programs that slept, where they were; gives the version of that, or null where it leads elsewhere. */
export async function wakeRoute(db: Db, host: string): Promise<number | null> {
  await query(db, 'select pg_advisory_xact_lock(7403124)');
  const row = await queryOne<{ version: number }>(
    db,
    `update routes set body = body - 'asleep', version = nextval('route_versions') where host = $1 and body is not null
     returning version::float8 as version`,
    [host],
  );
  await notify(db, 'routes');
  return row?.version ?? null;
}

/** Puts what an authority asks for under a host; what it leads to stays. Gives the version of it. */
export async function putProofs(
  db: Db,
  host: string,
  environment: string,
  proofs: Record<string, string>,
): Promise<number> {
  await query(db, 'select pg_advisory_xact_lock(7403124)');
  const row = await queryOne<{ version: number }>(
    db,
    `insert into routes (host, environment_id, proofs, version) values ($1, $2, $3, nextval('route_versions'))
     on conflict (host) do update set proofs = excluded.proofs, version = excluded.version returning version::float8 as version`,
    [host, environment, json(proofs)],
  );
  await notify(db, 'routes');
  return row?.version ?? 0;
}

export const routesAfter = (db: Db, version: number): Promise<RouteRow[]> =>
  query(db, 'select host, body, proofs, version::float8 as version from routes where version > $1 order by version', [
    version,
  ]);

/** Where a host leads to; null when to nothing. */
export async function routeBody(db: Db, host: string): Promise<unknown> {
  const { Route, in: within } = tables(db);
  return (await Route.findByPk(host, { attributes: ['body'], raw: true, ...within }))?.body ?? null;
}

/** Whether some host is answered from these bytes. */
export const routesName = async (db: Db, digest: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from routes where body is not null and body::text like '%' || $1 || '%' limit 1`,
    [digest],
  )) !== null;
