/** What opens resources. A password is stored encrypted until its login has ended, and then no more. */
import type { InferAttributes } from 'sequelize';
import { type Db, notify, query, queryOne } from '../database.js';
import type { Login } from '../models/resources/logins.js';

export type LoginRow = InferAttributes<Login>;

const columns =
  'id, resource_id, deployment_id, used_by, turn, person, state, sealed, expires_at, created_at, ended_at';

export interface NewLogin {
  id: string;
  resource: string;
  deployment: string | null;
  usedBy: LoginRow['used_by'];
  turn: number;
  person: string | null;
  sealed: Buffer;
  expires: Date | null;
}

/** Asks for a login; one of the same turn is there already where it was asked for before. Gives its id. */
export async function addLogin(db: Db, one: NewLogin): Promise<string | null> {
  const row = await queryOne<{ id: string }>(
    db,
    `with added as (
       insert into logins (id, resource_id, deployment_id, used_by, turn, person, sealed, expires_at)
       values ($1, $2, $3, $4, $5, $6, $7, $8) on conflict do nothing returning id, resource_id
     ), woken as (
       update resources r set due_at = now() from added where r.id = added.resource_id returning 1
     )
     select id from added`,
    [one.id, one.resource, one.deployment, one.usedBy, one.turn, one.person, one.sealed, one.expires],
  );
  if (row) await notify(db, 'resources');
  return row?.id ?? null;
}

/** Logins of a resource on which something is to be done. */
export const dueLogins = (db: Db, resource: string): Promise<LoginRow[]> =>
  query(db, `select ${columns} from logins where resource_id = $1 and state in ('asked', 'ending') order by id`, [
    resource,
  ]);

export const loginsOf = (db: Db, resource: string): Promise<LoginRow[]> =>
  query(db, `select ${columns} from logins where resource_id = $1 and state <> 'ended' order by id`, [resource]);

/** Those of a deployment, with the names of their resources; of a name the newest first. */
export const loginsOfDeployment = (
  db: Db,
  deployment: string,
): Promise<(Omit<LoginRow, 'deployment_id'> & { name: string; place: string })[]> =>
  query(
    db,
    `select l.id, l.resource_id, l.used_by, l.turn, l.person, l.state, l.sealed, l.expires_at, l.created_at, l.ended_at, r.name, r.place
     from logins l join resources r on r.id = l.resource_id
     where l.deployment_id = $1 and l.state <> 'ended' and r.state <> 'removed'
     order by r.name, l.turn desc`,
    [deployment],
  );

/** A person's login of a resource, or null. */
export const personLogin = (db: Db, resource: string, id: string): Promise<LoginRow | null> =>
  queryOne(db, `select ${columns} from logins where id = $1 and resource_id = $2 and used_by = 'person'`, [
    id,
    resource,
  ]);

export const loginState = async (db: Db, id: string): Promise<LoginRow['state'] | null> =>
  (await queryOne<{ state: LoginRow['state'] }>(db, 'select state from logins where id = $1', [id]))?.state ?? null;

/** The server knows these by now, or knows them no more. A password that opens nothing is forgotten. */
export async function settleLogins(db: Db, made: readonly string[], ended: readonly string[]): Promise<void> {
  await query(
    db,
    `update logins set state = case when id = any($1::uuid[]) and state = 'asked' then 'ready' when id = any($2::uuid[]) then 'ended' else state end,
       sealed = case when id = any($2::uuid[]) then '' else sealed end,
       ended_at = case when id = any($2::uuid[]) then now() else ended_at end
     where id = any($1::uuid[] || $2::uuid[])`,
    [made, ended],
  );
}

/** With a resource go all of its logins. */
export const endLoginsOf = (db: Db, resource: string): Promise<unknown> =>
  query(
    db,
    `update logins set state = 'ended', sealed = '', ended_at = coalesce(ended_at, now()) where resource_id = $1 and state <> 'ended'`,
    [resource],
  );

/** One that somebody has ended. */
export async function endLogin(db: Db, id: string): Promise<void> {
  await query(
    db,
    `with gone as (update logins set state = 'ending' where id = $1 and state in ('asked', 'ready') returning resource_id)
     update resources r set due_at = now() from gone where r.id = gone.resource_id`,
    [id],
  );
  await notify(db, 'resources');
}

/**
 * Ends what nobody needs any more: a person's whose time is over; that of a try of prepare which has ended; those of a deployment that is
 * over, has not the traffic, and of which no program is left; those before a rotation that no program was started with. Gives how many.
 */
export async function endOverLogins(db: Db): Promise<number> {
  const rows = await query<{ resource_id: string }>(
    db,
    `update logins l set state = 'ending'
     from logins o left join deployments d on d.id = o.deployment_id left join environments e on e.id = d.environment_id
     where o.id = l.id and l.state in ('asked', 'ready') and (
       l.expires_at < now()
       or l.used_by = 'prepare' and (d.state <> 'preparing' or d.failure is not null
         or exists (select 1 from logins n where n.resource_id = l.resource_id and n.deployment_id = l.deployment_id and n.used_by = 'prepare' and n.turn > l.turn))
       or l.used_by = 'parts' and d.state in ('replaced', 'reverted', 'failed') and d.id is distinct from e.serving_id
         and not exists (select 1 from instances i where i.started_for = d.id and i.state in ('waiting', 'starting', 'ready', 'frozen'))
         and not exists (select 1 from attempts a where a.deployment_id = d.id and a.state in ('waiting', 'running'))
       or l.used_by = 'parts'
         and exists (select 1 from logins n where n.resource_id = l.resource_id and n.deployment_id = l.deployment_id
           and n.used_by = 'parts' and n.turn > l.turn and n.state = 'ready' and n.turn <= d.turn
           and not exists (select 1 from instances i where i.started_for = d.id and i.turn < n.turn and i.state in ('waiting', 'starting', 'ready', 'frozen'))
           and not exists (select 1 from attempts a where a.deployment_id = d.id and a.kind = 'job' and a.state in ('waiting', 'running') and a.created_at < n.created_at)))
     returning l.resource_id`,
  );
  if (rows.length === 0) return 0;
  await query(db, 'update resources set due_at = now() where id = any($1::uuid[])', [
    [...new Set(rows.map((row) => row.resource_id))],
  ]);
  return rows.length;
}
