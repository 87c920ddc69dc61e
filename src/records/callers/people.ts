import { Op } from 'sequelize';
import { type Role, roles, type Takes } from '../../core/states.js';
import { type Db, queryOne, query, tables, now } from '../database.js';
import { recordEvents } from '../events.js';
import { wakeMoving } from './edges.js';
import { newId } from '../ids.js';

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

/** What an agent may take, where it is reached, and which ports its instances may have. */
export interface AgentGrant {
  takes: Takes[];
  address: string;
  ports: { from: number; to: number };
}

export interface TokenRow {
  id: string;
  kind: TokenKind;
  name: string;
  role: Role | null;
  project: string | null;
  takes: Takes[] | null;
  address: string | null;
  port_from: number | null;
  port_to: number | null;
  created_at: Date;
  expires_at: Date | null;
  used_at: Date | null;
  /** Whose it is; null of agents and edges. */
  person: string | null;
}

export const countPeople = async (db: Db): Promise<number> => tables(db).Person.count({ ...tables(db).in });

export async function addPerson(db: Db, name: string, role: Role, actor: string): Promise<string> {
  const row = await queryOne<{ id: string }>(
    db,
    `insert into people (id, name, role)
       values ($1, $2, $3)
     on conflict (name) do update set name = excluded.name
     returning id`,
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

export async function listPeople(db: Db): Promise<PersonRow[]> {
  const { Person, in: within } = tables(db);
  return Person.findAll({ where: { removed_at: null }, order: ['name'], raw: true, ...within });
}

export async function findPerson(db: Db, name: string): Promise<PersonRow | null> {
  const { Person, in: within } = tables(db);
  return Person.findOne({ where: { name, removed_at: null }, raw: true, ...within });
}

/** Names of all, also of those who were removed: what they did is theirs. */
export async function namesOfPeople(db: Db): Promise<string[]> {
  const { Person, in: within } = tables(db);
  return (await Person.findAll({ attributes: ['name'], raw: true, ...within })).map(({ name }) => name);
}

/** Ends all that a person could do: their sessions, tokens and sign-ins. False when nobody would be left who owns. */
export async function removePerson(db: Db, person: PersonRow, actor: string): Promise<boolean> {
  const { Person, Session, SignIn, Token, in: within } = tables(db);
  const where = { role: 'owner' as const, removed_at: null };
  const owners = await Person.findAll({ where, order: ['id'], lock: true, raw: true, ...within });
  if (person.role === 'owner' && owners.every((one) => one.id === person.id)) return false;
  await Person.update({ removed_at: now(), role: 'viewer' }, { where: { id: person.id }, ...within });
  await Token.update({ removed_at: now() }, { where: { person_id: person.id, removed_at: null }, ...within });
  await Session.destroy({ where: { person_id: person.id }, ...within });
  await SignIn.destroy({ where: { person_id: person.id }, ...within });
  await recordEvents(db, {
    type: 'person.removed',
    project: null,
    subject: person.name,
    actor,
    data: { role: person.role },
  });
  return true;
}

/** Sign-ins of a person that were not used yet: none of them is good any more. */
export async function revokeSignIns(db: Db, person: string): Promise<void> {
  const { SignIn, in: within } = tables(db);
  await SignIn.destroy({ where: { person_id: person, used_at: null }, ...within });
}

/** Gives a person another role; sessions have it at once, tokens never more than it. False when nobody would be left who owns. */
export async function setRole(db: Db, person: PersonRow, role: Role, actor: string): Promise<boolean> {
  const { Person, Token, in: within } = tables(db);
  const where = { role: 'owner' as const, removed_at: null };
  const owners = await Person.findAll({ where, order: ['id'], lock: true, raw: true, ...within });
  if (person.role === 'owner' && role !== 'owner' && owners.every((one) => one.id === person.id)) return false;
  await Person.update({ role }, { where: { id: person.id }, ...within });
  const above = roles.slice(roles.indexOf(role) + 1);
  await Token.update({ role }, { where: { person_id: person.id, removed_at: null, role: above }, ...within });
  await recordEvents(db, {
    type: 'person.role',
    project: null,
    subject: person.name,
    actor,
    data: { role, before: person.role },
  });
  return true;
}

export async function firstOwner(db: Db): Promise<{ id: string; name: string } | null> {
  const { Person, in: within } = tables(db);
  return Person.findOne({ where: { role: 'owner', removed_at: null }, order: ['created_at'], raw: true, ...within });
}

export async function addSignIn(db: Db, hash: Buffer, person: string, expires: Date): Promise<void> {
  const { SignIn, in: within } = tables(db);
  await SignIn.create({ hash, person_id: person, expires_at: expires, used_at: null }, within);
}

/** Uses a one-time sign-in up; null when it is not good. */
export const takeSignIn = (db: Db, hash: Buffer): Promise<{ id: string; name: string; role: Role } | null> =>
  queryOne(
    db,
    `update sign_ins s set used_at = now() from people p
     where s.hash = $1
       and s.used_at is null
       and s.expires_at > now()
       and p.id = s.person_id and p.removed_at is null
     returning p.id, p.name, p.role`,
    [hash],
  );

export interface NewSession {
  hash: Buffer;
  person: string;
  /** The token that began it, with which it ends; null for a one-time sign-in. */
  token: string | null;
  /** What the browser says of itself. */
  client: string;
  expires: Date;
}

export async function addSession(db: Db, session: NewSession): Promise<void> {
  await query(
    db,
    `insert into sessions (id, hash, person_id, token_id, client, expires_at)
       values ($1, $2, $3, $4, $5, $6)`,
    [newId(), session.hash, session.person, session.token, session.client.slice(0, 200), session.expires],
  );
}
export async function endSession(db: Db, hash: Buffer): Promise<void> {
  const { Session, in: within } = tables(db);
  await Session.destroy({ where: { hash }, ...within });
}

/** Whom a session belongs to. Its role is the person's of now, and never above that of the token that began it, which must still be good. */
export async function callerOfSession(db: Db, hash: Buffer): Promise<(Caller & { session: string }) | null> {
  const row = await queryOne<{
    id: string;
    name: string;
    role: Role;
    token_role: Role | null;
    session: string;
    stale: boolean;
  }>(
    db,
    `select p.id, p.name, p.role, t.role as token_role, s.id as session, s.seen_at < now() - interval '1 minute' as stale
     from sessions s join people p on p.id = s.person_id left join tokens t on t.id = s.token_id
     where s.hash = $1 and s.expires_at > now()
       and (s.token_id is null or (t.removed_at is null and (t.expires_at is null or t.expires_at > now())))`,
    [hash],
  );
  if (!row) return null;
  if (row.stale) await query(db, 'update sessions set seen_at = now() where id = $1', [row.session]);
  const role = row.token_role && roles.indexOf(row.token_role) < roles.indexOf(row.role) ? row.token_role : row.role;
  return { kind: 'person', id: row.id, name: row.name, role, project: null, session: row.session };
}

export interface SessionRow {
  id: string;
  person: string;
  client: string;
  created_at: Date;
  seen_at: Date;
  expires_at: Date;
}

const sessionsAtMost = 500;

/** Sessions that are good, of one person or of all (null), the newest first. */
export const listSessions = (db: Db, person: string | null): Promise<SessionRow[]> =>
  query(
    db,
    `select s.id, p.name as person, s.client, s.created_at, s.seen_at, s.expires_at from sessions s join people p on p.id = s.person_id
     where ($1::uuid is null or s.person_id = $1) and s.expires_at > now() order by s.seen_at desc limit $2`,
    [person, sessionsAtMost],
  );

/** Ends a session by its id, and records that; `person` null ends anybody's. False when there is none. */
export async function endSessionOf(db: Db, id: string, person: string | null, actor: string): Promise<boolean> {
  const row = await queryOne<{ name: string; client: string }>(
    db,
    `delete from sessions s using people p
     where s.id = $1 and p.id = s.person_id and ($2::uuid is null or s.person_id = $2) returning p.name, s.client`,
    [id, person],
  );
  if (!row) return false;
  const { name, client } = row;
  await recordEvents(db, { type: 'session.ended', project: null, subject: name, actor, data: { client } });
  return true;
}

export async function personName(db: Db, id: string): Promise<string | null> {
  const { Person, in: within } = tables(db);
  return (await Person.findByPk(id, { attributes: ['name'], raw: true, ...within }))?.name ?? null;
}

/** The person behind a caller: a session is the person's own, a token names them. */
export const personOf = async (db: Db, caller: Caller): Promise<string | null> =>
  (
    await queryOne<{ id: string }>(
      db,
      `select person_id as id from tokens
       where id = $1
         and person_id is not null
       union select id from people
       where id = $1 limit 1`,
      [caller.id],
    )
  )?.id ?? null;

export async function dropOldSessions(db: Db): Promise<void> {
  const { Session, in: within } = tables(db);
  await Session.destroy({ where: { expires_at: { [Op.lt]: now() } }, ...within });
}

export const dropOldSignIns = (db: Db): Promise<unknown> =>
  query(db, `delete from sign_ins where expires_at < now() - interval '7 days'`);

export interface NewToken {
  hash: Buffer;
  kind: TokenKind;
  name: string;
  person: string | null;
  role: Role | null;
  project: string | null;
  expires: Date | null;
  /** For an agent's token. */
  grant?: AgentGrant | null;
}

export async function addToken(db: Db, token: NewToken, actor: string): Promise<TokenRow> {
  const row = await queryOne<TokenRow>(
    db,
    `insert into tokens (id, hash, kind, name, person_id, role, project_id, expires_at, takes, address, port_from, port_to)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
     returning id, kind, name, role, (select name from projects where id = project_id) as project, created_at, expires_at, used_at, takes, address, port_from, port_to,
       (select name from people where id = person_id) as person`,
    [
      newId(),
      token.hash,
      token.kind,
      token.name,
      token.person,
      token.role,
      token.project,
      token.expires,
      token.grant?.takes ?? null,
      token.grant?.address ?? null,
      token.grant?.ports.from ?? null,
      token.grant?.ports.to ?? null,
    ],
  );
  await recordEvents(db, {
    type: 'token.added',
    project: token.project,
    subject: token.name,
    actor,
    data: { kind: token.kind, role: token.role, ...(token.grant ?? {}) },
  });
  return row as TokenRow;
}

export const listTokens = (db: Db): Promise<TokenRow[]> =>
  query(
    db,
    `select t.id, t.kind, t.name, t.role, p.name as project, t.created_at, t.expires_at, t.used_at, t.takes,
       t.address, t.port_from, t.port_to, o.name as person
     from tokens t
       left join projects p on p.id = t.project_id
       left join people o on o.id = t.person_id
     where t.removed_at is null
     order by t.created_at`,
  );

export async function removeToken(db: Db, id: string, actor: string): Promise<boolean> {
  const row = await queryOne<{ name: string; kind: string }>(
    db,
    'update tokens set removed_at = now() where id = $1 and removed_at is null returning name, kind',
    [id],
  );
  if (!row) return false;
  // Nothing waits any more for an edge that has no token.
  if (row.kind === 'edge') await wakeMoving(db);
  // What was begun with it ends with it.
  await query(db, 'delete from sessions where token_id = $1', [id]);
  await recordEvents(db, { type: 'token.removed', project: null, subject: row.name, actor });
  return true;
}

/** What the token of an agent or edge allows; its name is the name of who registers with it. */
export const grantOf = async (db: Db, token: string): Promise<(AgentGrant & { name: string }) | null> => {
  const row = await queryOne<TokenRow>(
    db,
    'select name, takes, address, port_from, port_to from tokens where id = $1',
    [token],
  );
  if (!row) return null;
  return {
    name: row.name,
    takes: row.takes ?? [],
    address: row.address ?? '127.0.0.1',
    ports: { from: row.port_from ?? 20_000, to: row.port_to ?? 31_999 },
  };
};

/** Whom a token belongs to. The time of use is kept to the minute, so that reads do not write each time. */
export async function callerOfToken(db: Db, hash: Buffer): Promise<Caller | null> {
  const row = await queryOne<Caller & { stale: boolean }>(
    db,
    `select t.kind, t.id, coalesce(p.name, t.name) as name, t.role, t.project_id as project, (t.used_at is null or t.used_at < now() - interval '1 minute') as stale
     from tokens t left join people p on p.id = t.person_id
     where t.hash = $1 and t.removed_at is null and (t.expires_at is null or t.expires_at > now())`,
    [hash],
  );
  if (!row) return null;
  const { stale, ...caller } = row;
  if (stale) await query(db, 'update tokens set used_at = now() where id = $1', [caller.id]);
  return caller;
}

/** The answer that was given to a change before, under the same key, encrypted; `request` tells whether it was the same one. */
export const earlierAnswer = (
  db: Db,
  actor: string,
  key: string,
): Promise<{ request: Buffer; status: number; sealed: Buffer | null } | null> =>
  tables(db).Answer.findOne({
    attributes: ['request', 'status', 'sealed'],
    where: { actor, key },
    raw: true,
    ...tables(db).in,
  });

/** Takes the place of an answer in the transaction of its change. False when another request came first with the same key. */
export async function beginAnswer(
  db: Db,
  actor: string,
  key: string,
  request: Buffer,
  status: number,
): Promise<boolean> {
  const row = await queryOne(
    db,
    `insert into answers (actor, key, request, status)
       values ($1, $2, $3, $4)
     on conflict do nothing
     returning 1 as ok`,
    [actor, key, request, status],
  );
  return row !== null;
}

export async function keepAnswer(db: Db, actor: string, key: string, sealed: Buffer): Promise<void> {
  const { Answer, in: within } = tables(db);
  await Answer.update({ sealed }, { where: { actor, key }, ...within });
}

export const dropOldAnswers = (db: Db): Promise<unknown> =>
  query(db, `delete from answers where at < now() - interval '2 days'`);

/** Whose a token is, or null. */
export async function personOfToken(db: Db, token: string): Promise<string | null> {
  const { Token, in: within } = tables(db);
  return (await Token.findByPk(token, { attributes: ['person_id'], raw: true, ...within }))?.person_id ?? null;
}
