/** What people set for a project and for each of its environments. Each change is a row of its own; the newest of a name counts. */
import { type Db, queryOne, query } from '../database.js';

export interface VariableRow {
  scope: string;
  name: string;
  version: number;
  secret: boolean;
  /** Plain text; null for a secret. */
  value: string | null;
  sealed: Buffer | null;
  actor: string;
  at: Date;
}

const columns = 'scope, name, version, secret, value, sealed, actor, at';

/** What is set now, in these scopes (default: all), by scope and name. */
export const variablesNow = (
  db: Db,
  project: string,
  scopes: readonly string[] | null = null,
): Promise<VariableRow[]> =>
  query(
    db,
    `select ${columns} from (
       select distinct on (scope, name) ${columns}, removed from variables where project_id = $1 and ($2::text[] is null or scope = any($2::text[])) order by scope, name, version desc
     ) newest where not removed order by scope, name`,
    [project, scopes],
  );

export const variableAt = (
  db: Db,
  project: string,
  scope: string,
  name: string,
  version: number,
): Promise<VariableRow | null> =>
  queryOne(db, `select ${columns} from variables where project_id = $1 and scope = $2 and name = $3 and version = $4`, [
    project,
    scope,
    name,
    version,
  ]);

export interface NewVariable {
  name: string;
  secret: boolean;
  value: string | null;
  sealed: Buffer | null;
  removed: boolean;
}

export async function putVariables(
  db: Db,
  project: string,
  scope: string,
  version: number,
  actor: string,
  list: readonly NewVariable[],
): Promise<void> {
  for (const one of list)
    await query(
      db,
      `insert into variables (project_id, scope, name, version, secret, value, sealed, removed, actor)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
      [project, scope, one.name, version, one.secret, one.value, one.sealed, one.removed, actor],
    );
}

/** Lets go of the bytes of secrets that were replaced and that nothing which runs, moves or is warm was started with. */
export const forgetSecrets = (db: Db): Promise<unknown> =>
  query(
    db,
    `update variables v set sealed = null where v.sealed is not null
       and exists (select 1 from variables n where n.project_id = v.project_id and n.scope = v.scope and n.name = v.name and n.version > v.version)
       and not exists (
         select 1 from deployments d, jsonb_each(d.secrets) s where d.project_id = v.project_id
           and (d.state in ('queued', 'preparing', 'starting', 'cutover', 'verifying', 'live') or d.warm_until > now())
           and s.value->>'scope' = v.scope and s.value->>'name' = v.name and (s.value->>'version')::int = v.version)
       and not exists (
         select 1 from tasks t join runs r on r.id = t.run_id, jsonb_each(t.pinned->'set') s where r.project_id = v.project_id
           and r.state in ('waiting', 'running') and s.key = v.name and v.scope = '' and (s.value->>'version')::int = v.version)`,
  );

export interface SealedRow {
  table: string;
  /** Id of the row; of a variable that of its project. */
  project: string;
  scope: string;
  name: string;
  version: number;
  sealed: Buffer;
}

/** Where texts are encrypted: each with what names its row. */
const allSealed = `select 'variables' as table, project_id as project, scope, name, version, sealed from variables where sealed is not null
     union all select 'projects.event_secret', id, '', '', 0, event_secret from projects where event_secret is not null
     union all select 'projects.credential', id, '', '', 0, credential from projects where credential is not null
     union all select 'logins', id, '', '', 0, sealed from logins where state <> 'ended'
     union all select 'resources', id, '', '', 0, sealed from resources where sealed is not null
     union all select 'snapshots', id, '', '', 0, sealed from snapshots where sealed is not null
     union all select 'certificates', id, '', '', 0, sealed from certificates where removed_at is null
     union all select 'subscriptions', id, '', '', 0, sealed from subscriptions where sealed is not null
     union all select 'destinations', id, '', '', 0, sealed from destinations where sealed is not null
     union all select 'authorities', null, url, '', 0, sealed from authorities
     union all select 'answers', null, actor, key, 0, sealed from answers where sealed is not null`;

/** Rows whose text does not begin with `head`, in an order that stays; those after the first `skip` of them. */
export const sealedOtherwise = (db: Db, head: Buffer, skip: number, limit: number): Promise<SealedRow[]> =>
  query(
    db,
    `select * from (${allSealed}) one where substring(sealed from 1 for $1::int) <> $2
     order by 1, 2, 3, 4, 5 offset $3 limit $4`,
    [head.length, head, skip, limit],
  );

/** Puts a text that is encrypted with another key in the place of `row.sealed`; nothing where that has changed meanwhile. */
export async function sealAgain(db: Db, row: SealedRow, sealed: Buffer): Promise<void> {
  if (row.table === 'variables')
    await query(
      db,
      'update variables set sealed = $5 where project_id = $1 and scope = $2 and name = $3 and version = $4 and sealed = $6',
      [row.project, row.scope, row.name, row.version, sealed, row.sealed],
    );
  else if (row.table === 'answers')
    await query(db, 'update answers set sealed = $3 where actor = $1 and key = $2 and sealed = $4', [
      row.scope,
      row.name,
      sealed,
      row.sealed,
    ]);
  else if (row.table === 'authorities')
    await query(db, 'update authorities set sealed = $2 where url = $1 and sealed = $3', [
      row.scope,
      sealed,
      row.sealed,
    ]);
  else if (
    row.table === 'logins' ||
    row.table === 'resources' ||
    row.table === 'snapshots' ||
    row.table === 'certificates' ||
    row.table === 'subscriptions' ||
    row.table === 'destinations'
  )
    await query(db, `update ${row.table} set sealed = $2 where id = $1 and sealed = $3`, [
      row.project,
      sealed,
      row.sealed,
    ]);
  else {
    const column = row.table === 'projects.credential' ? 'credential' : 'event_secret';
    await query(db, `update projects set ${column} = $2 where id = $1 and ${column} = $3`, [
      row.project,
      sealed,
      row.sealed,
    ]);
  }
}

/** Until the end of the transaction no other service makes a new key. */
export const lockKeys = (db: Db): Promise<unknown> => query(db, 'select pg_advisory_xact_lock(7403134)');
