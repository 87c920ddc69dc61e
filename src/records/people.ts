import { type Role, roles } from '../core/states.js';
import type { Db } from './database.js';
import { recordEvents } from './events.js';
import { newId } from './ids.js';

export type TokenKind = 'person' | 'agent' | 'edge';

export interface Caller {
  kind: TokenKind;
  /** Id of the token, or of the person for a session. */
  id: string;
  name: string;
  role: Role | null;
  /** A token may be for one project alone. */
  project: string | null;
}

export interface TokenRow {
  id: string;
  kind: TokenKind;
  name: string;
  role: Role | null;
  project: string | null;
  created_at: Date;
  expires_at: Date | null;
  used_at: Date | null;
}

export const countPeople = async (db: Db): Promise<number> => Number((await db.one<{ n: string }>('select count(*) as n from people'))?.n ?? 0);

export async function addPerson(db: Db, name: string, role: Role, actor: string): Promise<string> {
  const row = await db.one<{ id: string }>(
    'insert into people (id, name, role) values ($1, $2, $3) on conflict (name) do update set name = excluded.name returning id',
    [newId(), name, role],
  );
  await recordEvents(db, { type: 'person.added', project: null, subject: name, actor, data: { role } });
  return row?.id as string;
}

export interface PersonRow {
  id: string;
  name: string;
  role: Role;
  created_at: Date;
}

export const listPeople = (db: Db): Promise<PersonRow[]> => db.rows('select id, name, role, created_at from people order by name');
export const findPerson = (db: Db, name: string): Promise<PersonRow | null> => db.one('select id, name, role, created_at from people where name = $1', [name]);

/** Gives a person another role; sessions have it at once, tokens never more than it. False when nobody would be left who owns. */
export async function setRole(db: Db, person: PersonRow, role: Role, actor: string): Promise<boolean> {
  await db.rows(`select 1 from people where role = 'owner' order by id for update`);
  const others = await db.one(`select 1 as ok from people where role = 'owner' and id <> $1 limit 1`, [person.id]);
  if (person.role === 'owner' && role !== 'owner' && !others) return false;
  await db.rows('update people set role = $2 where id = $1', [person.id, role]);
  await db.rows('update sessions set role = $2 where person_id = $1', [person.id, role]);
  const above = roles.slice(roles.indexOf(role) + 1);
  await db.rows('update tokens set role = $2 where person_id = $1 and removed_at is null and role = any($3::text[])', [person.id, role, above]);
  await recordEvents(db, { type: 'person.role', project: null, subject: person.name, actor, data: { role, before: person.role } });
  return true;
}

export const firstOwner = (db: Db): Promise<{ id: string; name: string } | null> =>
  db.one(`select id, name from people where role = 'owner' order by created_at limit 1`);

export async function addSignIn(db: Db, hash: Buffer, person: string, expires: Date): Promise<void> {
  await db.rows('insert into sign_ins (hash, person_id, expires_at) values ($1, $2, $3)', [hash, person, expires]);
}

/** Uses a one-time sign-in up; null when it is not good. */
export const takeSignIn = (db: Db, hash: Buffer): Promise<{ id: string; name: string; role: Role } | null> =>
  db.one(
    `update sign_ins s set used_at = now() from people p where s.hash = $1 and s.used_at is null and s.expires_at > now() and p.id = s.person_id returning p.id, p.name, p.role`,
    [hash],
  );

export async function addSession(db: Db, hash: Buffer, person: string, role: Role, expires: Date): Promise<void> {
  await db.rows('insert into sessions (hash, person_id, role, expires_at) values ($1, $2, $3, $4)', [hash, person, role, expires]);
}
export async function endSession(db: Db, hash: Buffer): Promise<void> {
  await db.rows('delete from sessions where hash = $1', [hash]);
}
export const callerOfSession = (db: Db, hash: Buffer): Promise<Caller | null> =>
  db.one(
    `select 'person' as kind, p.id, p.name, s.role, null as project from sessions s join people p on p.id = s.person_id where s.hash = $1 and s.expires_at > now()`,
    [hash],
  );

export interface NewToken {
  hash: Buffer;
  kind: TokenKind;
  name: string;
  person: string | null;
  role: Role | null;
  project: string | null;
  expires: Date | null;
}

export async function addToken(db: Db, token: NewToken, actor: string): Promise<TokenRow> {
  const row = await db.one<TokenRow>(
    `insert into tokens (id, hash, kind, name, person_id, role, project_id, expires_at) values ($1, $2, $3, $4, $5, $6, $7, $8)
     returning id, kind, name, role, (select name from projects where id = project_id) as project, created_at, expires_at, used_at`,
    [newId(), token.hash, token.kind, token.name, token.person, token.role, token.project, token.expires],
  );
  await recordEvents(db, { type: 'token.added', project: token.project, subject: token.name, actor, data: { kind: token.kind, role: token.role } });
  return row as TokenRow;
}

export const listTokens = (db: Db): Promise<TokenRow[]> =>
  db.rows(
    'select t.id, t.kind, t.name, t.role, p.name as project, t.created_at, t.expires_at, t.used_at from tokens t left join projects p on p.id = t.project_id where t.removed_at is null order by t.created_at',
  );

export async function removeToken(db: Db, id: string, actor: string): Promise<boolean> {
  const row = await db.one<{ name: string }>('update tokens set removed_at = now() where id = $1 and removed_at is null returning name', [id]);
  if (row) await recordEvents(db, { type: 'token.removed', project: null, subject: row.name, actor });
  return row !== null;
}

/** Whom a token belongs to. The time of use is kept to the minute, so that reads do not write each time. */
export async function callerOfToken(db: Db, hash: Buffer): Promise<Caller | null> {
  const row = await db.one<Caller & { stale: boolean }>(
    `select t.kind, t.id, coalesce(p.name, t.name) as name, t.role, t.project_id as project, (t.used_at is null or t.used_at < now() - interval '1 minute') as stale
     from tokens t left join people p on p.id = t.person_id
     where t.hash = $1 and t.removed_at is null and (t.expires_at is null or t.expires_at > now())`,
    [hash],
  );
  if (!row) return null;
  const { stale, ...caller } = row;
  if (stale) await db.rows('update tokens set used_at = now() where id = $1', [caller.id]);
  return caller;
}

/** The answer that was given to a change before, under the same key; `request` tells whether it was the same one. */
export const earlierAnswer = (db: Db, actor: string, key: string): Promise<{ request: Buffer; status: number; body: unknown } | null> =>
  db.one('select request, status, body from answers where actor = $1 and key = $2', [actor, key]);

/** Keeps an answer in the transaction of its change. False when another request came first with the same key. */
export async function keepAnswer(db: Db, actor: string, key: string, request: Buffer, status: number, body: unknown): Promise<boolean> {
  const row = await db.one('insert into answers (actor, key, request, status, body) values ($1, $2, $3, $4, $5) on conflict do nothing returning 1 as ok', [
    actor,
    key,
    request,
    status,
    JSON.stringify(body ?? null),
  ]);
  return row !== null;
}

export const dropOldAnswers = (db: Db): Promise<unknown> => db.rows(`delete from answers where at < now() - interval '2 days'`);
