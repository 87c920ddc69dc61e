/**
 * Databases of environments.
 *
 * A database belongs to the server's administrator, all in it to a role of its own that nobody can sign in as; each login is a member of
 * that role and acts as it, so that what one made the next can change, and may reach nothing else there. Names are made of ids: `d_` a
 * database, `o_` its owner role, `l_` a login, `v_` the role that only reads; `s_` one that stands ready, of nobody yet.
 */
import { randomBytes } from 'node:crypto';
import { CodedError } from '../../core/errors/errors.js';
import { PassThrough, type Readable } from 'node:stream';
import type { DatabaseAccess } from '../../core/states.js';
import type { Kind, Login, Looked, Reached, TableFacts, TableRows } from '../kinds.js';
import { openCopies } from './copies.js';
import { codeOf, name, oneLine, openServer, text } from './server.js';
import { openSpare } from './spare.js';
import { closeTemplate, contentsOf, copyTemplate, freeAt } from './templates.js';

export interface DatabaseSpec {
  extensions: string[];
}

export interface Standing {
  id: string;
  ours: boolean;
}

export interface DatabaseKind extends Kind<DatabaseSpec> {
  kind: 'postgres';
  /** What is seen of several in one question; what is not there is left out. */
  lookAt(ids: readonly string[]): Promise<Map<string, Looked>>;
  /** All resources and logins of which something stands on the server, whether anybody knows of them or not; `ours`: made by this house. */
  there(): Promise<{ resources: Standing[]; logins: Standing[] }>;
  /** Sessions on the server, and how many there may be. */
  crowd(): Promise<{ sessions: number; most: number }>;
  /** Sessions of programs on these that are in the middle of something. */
  busy(ids: readonly string[]): Promise<number>;
  /** Lets programs write, only read, or not in at all; sessions that began otherwise end, at once where they do nothing. */
  allow(id: string, access: DatabaseAccess): Promise<void>;
  addLogin(id: string, login: Login): Promise<void>;
  /** Ends its sessions; what it made stays. */
  endLogin(id: string, login: string): Promise<void>;
  /** The same of one of which the resource is not known. It owns nothing: what it made is its resource's. */
  dropLogin(login: string): Promise<void>;
  /** Field of a reference → value, for a program that finds the server under the name `host`. */
  references(id: string, host: string, login: Pick<Login, 'id' | 'password'>): Record<string, string>;
  reached(): Reached;
  /** What a dump holds takes the place of all that was there. */
  fill(id: string, spec: DatabaseSpec, from: Readable): Promise<void>;
  /** What is in it now is written anew, so that nothing of before is left in it; then nobody enters it. Gives its bytes. */
  settle(id: string, spec: DatabaseSpec): Promise<number>;
  /**
   * As `make`, with the contents of one that was settled. Gives whose they are: where it was made before, those of then. Throws
   * `snapshot_gone` where what it is to be made of is not there.
   */
  makeOf(id: string, spec: DatabaseSpec, from: string): Promise<string>;
  /** Bytes that are free on its disk; null where that can't be seen. */
  free(): Promise<number | null>;
  /** Tables, the largest first; `password` is that of the role which only reads. */
  tables(id: string, password: string): Promise<TableFacts[]>;
  rows(id: string, password: string, table: { schema: string; name: string }, from: number): Promise<TableRows>;
}

const hex = (id: string): string => id.replaceAll('-', '');
export const databaseOf = (id: string): string => `d_${hex(id)}`;
export const ownerOf = (id: string): string => `o_${hex(id)}`;
export const loginOf = (id: string): string => `l_${hex(id)}`;
/** While a backup is restored: what takes its place, and what was there before. */
const nextOf = (id: string): string => `n_${hex(id)}`;
const beforeOf = (id: string): string => `x_${hex(id)}`;
const readerOf = (id: string): string => `v_${hex(id)}`;

/** The id in a name of ours. */
const idOf = (name: string): string => name.slice(2).replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, '$1-$2-$3-$4-$5');

/** Sessions of one login, and of all programs of one database. */
const loginSessions = 40;
const databaseSessions = 80;
/** What a query spills to disk is not in the size of its database. */
const spill = '1GB';
/** What stands with a copy that was written anew. */
const settledTurn = 'settled';
/** Milliseconds for which a look at rows may take. */
const lookMs = 5_000;
/** Rows of a page, and characters of a value that are shown. */
const pageRows = 50;
const valueLength = 200;
const mostTables = 500;

/** `house` stands with each role that is made: others may have theirs on the same server. */
export function openPostgres(url: string, house: string): DatabaseKind {
  const server = openServer(url);
  const copies = openCopies(server);
  const spare = openSpare(server, house);
  const exists = async (role: string) =>
    (await server.run('select 1 from pg_roles where rolname = $1', [role])).length > 0;
  /** Makes a role, or gives it what it shall have by now: a statement among others, which are all done together or not at all. */
  const role = (who: string, attributes: string): string => {
    // Nothing that stands in it can end it.
    const mark = `$r${randomBytes(8).toString('hex')}$`;
    return `do ${mark} begin create role ${name(who)} ${attributes};
      exception when duplicate_object or unique_violation then alter role ${name(who)} ${attributes}; end ${mark};`;
  };
  /** Every role may connect to these unless somebody says otherwise. Said once: two at the same moment would refuse one another. */
  let shutting: Promise<unknown> | null = null;
  const shut = async () => {
    shutting ??= server.run('revoke connect on database postgres, template1 from public');
    await shutting.catch((error: unknown) => {
      shutting = null;
      throw error;
    });
  };
  const endSessions = (who: string) =>
    server.run('select pg_terminate_backend(pid) from pg_stat_activity where usename = $1', [who]);
  /** Both names change in one transaction: at every moment one database has the name that programs know. */
  const changePlaces = (there: string, next: string, before: string) =>
    server.within('postgres', null, async (client) => {
      await client.query('begin');
      const { rowCount } = await client.query('select 1 from pg_database where datname = $1', [there]);
      if (rowCount) await client.query(`alter database ${name(there)} rename to ${name(before)}`);
      await client.query(`alter database ${name(next)} rename to ${name(there)}`);
      await client.query('commit');
    });
  /** Drops a login; what belongs to it, made by a program that had left its owner role, is given to that. */
  const dropLogin = async (id: string, who: string) => {
    if (!(await exists(who))) return;
    await server.run(`alter role ${name(who)} nologin`);
    await endSessions(who);
    await server
      .within(databaseOf(id), null, async (client) => {
        await client.query(`reassign owned by ${name(who)} to ${name(ownerOf(id))}`);
        await client.query(`drop owned by ${name(who)}`);
      })
      .catch((error: unknown) => {
        // Without its database it owns nothing.
        if (codeOf(error) !== '3D000') throw error;
      });
    await server.run(`drop role if exists ${name(who)}`);
  };
  const asReader = <T>(id: string, password: string, work: Parameters<typeof server.within<T>>[2]): Promise<T> =>
    server.run(role(readerOf(id), `login password ${text(password)} connection limit 4`)).then(() =>
      server.within(databaseOf(id), { user: readerOf(id), password }, async (client) => {
        await client.query(`set statement_timeout = ${lookMs}; set search_path = ''; begin transaction read only`);
        return work(client);
      }),
    );
  const doorsOf = (id: string, database: string): string =>
    `alter database ${name(database)} connection limit ${databaseSessions};
     revoke all on database ${name(database)} from public;
     grant connect, create, temporary on database ${name(database)} to ${name(ownerOf(id))};
     grant connect on database ${name(database)} to ${name(readerOf(id))}`;
  /** A database of the id's owner role, which others than its logins can't enter. There already is no error. */
  const makeDatabase = async (id: string, database: string, extensions: readonly string[]) => {
    const doors = doorsOf(id, database);
    if (!(await spare.take(database, doors))) {
      try {
        await server.run(`create database ${name(database)}`);
      } catch (error) {
        // There already, or just made by another one.
        if (codeOf(error) !== '42P04' && codeOf(error) !== '23505') throw error;
      }
      await server.run(doors);
    }
    spare.want();
    await furnish(id, database, extensions);
  };
  /** What is in a database that is there is its owner's, with its extensions. */
  const furnish = async (id: string, database: string, extensions: readonly string[]) => {
    const owner = ownerOf(id);
    await server.within(database, null, async (client) => {
      await client.query(`alter schema public owner to ${name(owner)}; set role ${name(owner)}`);
      for (const extension of extensions) {
        try {
          await client.query(`create extension if not exists ${name(extension)} with schema public`);
        } catch (error) {
          if (codeOf(error).startsWith('08') || codeOf(error).startsWith('57')) throw error;
          throw new CodedError('extension_refused', { extension, detail: oneLine((error as Error).message) }, error);
        }
      }
    });
  };
  const drop = (database: string) => server.run(`drop database if exists ${name(database)} with (force)`);
  const has = async (database: string) =>
    (await server.run('select 1 from pg_database where datname = $1', [database])).length > 0;
  /** A restore that changed places and died goes on from there: what was there before is removed. */
  const settled = async (id: string) => {
    if (await has(databaseOf(id))) await drop(beforeOf(id));
  };
  const turnOf = async (database: string): Promise<string | null> =>
    (
      await server.run<{ said: string | null }>(
        `select shobj_description(oid, 'pg_database') as said from pg_database where datname = $1`,
        [database],
      )
    )[0]?.said ?? null;
  const lookAt: DatabaseKind['lookAt'] = async (ids) => {
    const rows = await server.run<{ id: string; bytes: string; connections: string }>(
      `select t.id, pg_database_size(d.oid) as bytes,
         (select count(*) from pg_stat_activity a where a.datid = d.oid and a.backend_type = 'client backend') as connections
       from unnest($1::text[], $2::name[]) as t(id, called) join pg_database d on d.datname = t.called`,
      [ids, ids.map(databaseOf)],
    );
    return new Map(rows.map((row) => [row.id, { bytes: Number(row.bytes), connections: Number(row.connections) }]));
  };
  const makeRoles = async (id: string) => {
    await shut();
    const [owner, reader] = [ownerOf(id), readerOf(id)];
    await server.run(
      `${role(owner, 'nologin')} ${role(reader, 'nologin')}
       alter role ${name(reader)} set default_transaction_read_only = on;
       grant pg_read_all_data to ${name(reader)}; comment on role ${name(owner)} is ${text(house)}`,
    );
  };
  const namesOf = (id: string) => ({ database: databaseOf(id), owner: ownerOf(id), next: nextOf(id) });
  const kind: DatabaseKind = {
    kind: 'postgres',
    async make(id, { extensions }, meanwhile = async () => {}) {
      await makeRoles(id);
      const own = settled(id).then(() => makeDatabase(id, databaseOf(id), extensions));
      // Neither is left alone where the other fails.
      const [made, also] = await Promise.allSettled([own, meanwhile()]);
      for (const one of [made, also]) if (one.status === 'rejected') throw one.reason;
    },
    async fill(id, spec, from) {
      try {
        await kind.remove(id);
        await makeRoles(id);
        await makeDatabase(id, databaseOf(id), []);
      } catch (error) {
        from.destroy();
        throw error;
      }
      await copies.fill(databaseOf(id), ownerOf(id), id, from);
      await furnish(id, databaseOf(id), spec.extensions);
    },
    async settle(id, spec) {
      const closed = (await turnOf(databaseOf(id))) === settledTurn;
      if (!closed) await kind.restore(id, settledTurn, spec, contentsOf(copies, namesOf(id), `s${id}`));
      return closeTemplate(server, namesOf(id));
    },
    async makeOf(id, { extensions }, from) {
      await makeRoles(id);
      await copyTemplate(server, namesOf(from), namesOf(id), drop);
      await server.run(doorsOf(id, databaseOf(id)));
      await furnish(id, databaseOf(id), extensions);
      const made = await turnOf(databaseOf(id));
      return made?.startsWith('d_') ? idOf(made) : from;
    },
    free: () => freeAt(server),
    async addLogin(id, login: Login) {
      const who = loginOf(login.id);
      const until = login.until ? ` valid until ${text(login.until.toISOString())}` : " valid until 'infinity'";
      const attributes = `login password ${text(login.password)} connection limit ${loginSessions}${until}`;
      const lock =
        (login.lockMs === null ? '' : `alter role ${name(who)} set lock_timeout = ${login.lockMs};`) +
        (login.statementMs === null ? '' : `alter role ${name(who)} set statement_timeout = ${login.statementMs};`);
      await server.run(
        `${role(who, attributes)} ${lock} grant ${name(ownerOf(id))} to ${name(who)};
         comment on role ${name(who)} is ${text(house)};
         alter role ${name(who)} set role = ${text(ownerOf(id))};
         alter role ${name(who)} set temp_file_limit = ${text(spill)}`,
      );
    },
    endLogin: (id, login) => dropLogin(id, loginOf(login)),
    references(id, host, login) {
      const [user, database, port] = [loginOf(login.id), databaseOf(id), String(server.port)];
      return {
        url: `postgres://${user}:${login.password}@${host}:${port}/${database}`,
        host,
        port,
        user,
        password: login.password,
        database,
      };
    },
    reached: () => ({ address: server.address, port: server.port }),
    lookAt,
    async there() {
      const rows = await server.run<{ name: string; made_by: string | null }>(
        `select datname::text as name, null as made_by from pg_database where datname ~ '^[dnx]_[0-9a-f]{32}$'
         union all select rolname::text, shobj_description(oid, 'pg_authid') from pg_roles where rolname ~ '^[olv]_[0-9a-f]{32}$'`,
      );
      const own = new Set(rows.filter((row) => row.made_by === house).map((row) => idOf(row.name)));
      const all = (kinds: string) =>
        [...new Set(rows.filter((row) => kinds.includes(row.name[0] ?? '')).map((row) => idOf(row.name)))].map(
          (id) => ({ id, ours: own.has(id) }),
        );
      return { resources: all('dnxov'), logins: all('l') };
    },
    async crowd() {
      const [row] = await server.run<{ sessions: number; most: number }>(
        `select count(*) filter (where backend_type = 'client backend')::int as sessions,
           current_setting('max_connections')::int - current_setting('superuser_reserved_connections')::int as most
         from pg_stat_activity`,
      );
      return row ?? { sessions: 0, most: 1 };
    },
    async busy(ids) {
      const [row] = await server.run<{ count: string }>(
        `select count(*) as count from pg_stat_activity
         where datname = any($1::name[]) and usename like 'l\\_%' and (state = 'active' or state like 'idle in transaction%')`,
        [ids.map(databaseOf)],
      );
      return Number(row?.count ?? 0);
    },
    async look(id) {
      const found = (await lookAt([id])).get(id);
      if (!found) throw new CodedError('database_gone');
      return found;
    },
    async allow(id, access) {
      const database = name(databaseOf(id));
      await server.run(
        `alter database ${database} ${access === 'reading' ? 'set default_transaction_read_only = on' : 'reset default_transaction_read_only'};
         ${access === 'shut' ? 'revoke' : 'grant'} connect on database ${database} ${access === 'shut' ? 'from' : 'to'} ${name(ownerOf(id))}`,
      );
      // Whoever is in the middle of something ends it; what goes on to grow is shut out.
      await server.run(
        `select pg_terminate_backend(pid) from pg_stat_activity
         where datname = $1 and usename like 'l\\_%' and ($2 or state = 'idle')`,
        [databaseOf(id), access === 'shut'],
      );
    },
    tables: (id, password) =>
      asReader(id, password, async (client) => {
        const { rows } = await client.query<{ schema: string; name: string; bytes: string; rows: number }>(
          `select n.nspname as schema, c.relname as name, pg_total_relation_size(c.oid) as bytes, c.reltuples::float8 as rows
           from pg_class c join pg_namespace n on n.oid = c.relnamespace
           where c.relkind in ('r', 'p') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
           order by 3 desc, 1, 2 limit ${mostTables}`,
        );
        return rows.map((row) => ({ ...row, bytes: Number(row.bytes) }));
      }),
    rows: (id, password, table, from) =>
      asReader(id, password, async (client) => {
        const { rows: columns } = await client.query<{ name: string }>(
          `select a.attname as name from pg_attribute a join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace
           where n.nspname = $1 and c.relname = $2 and c.relkind in ('r', 'p') and a.attnum > 0 and not a.attisdropped
             and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
           order by a.attnum limit 100`,
          [table.schema, table.name],
        );
        if (columns.length === 0)
          throw new CodedError('table_unknown', { table: `${table.schema}.${table.name}`.slice(0, 100) });
        const shown = columns.map((one) => `pg_catalog.left(${name(one.name)}::pg_catalog.text, ${valueLength + 1})`);
        const { rows } = await client.query<string[]>({
          text: `select ${shown.join(', ')} from ${name(table.schema)}.${name(table.name)} limit ${pageRows + 1} offset $1`,
          values: [from],
          rowMode: 'array',
        });
        return {
          columns: columns.map((one) => one.name),
          rows: rows
            .slice(0, pageRows)
            .map((row) =>
              row.map((value) =>
                value !== null && value.length > valueLength ? `${value.slice(0, valueLength)}…` : value,
              ),
            ),
          more: rows.length > pageRows,
        };
      }),
    async backUp(id, copy, store, abort) {
      const bytes = new PassThrough();
      const kept = store(bytes);
      // It is waited for below; a stream that was broken off is told by who broke it.
      kept.catch(() => {});
      await copies.backUp(databaseOf(id), ownerOf(id), copy, bytes, abort);
      return kept;
    },
    async restore(id, turn, _spec, from) {
      const [there, next, before] = [databaseOf(id), nextOf(id), beforeOf(id)];
      if ((await turnOf(there)) === turn) return void (await drop(before));
      // One that died here before may have left it closed.
      if (await has(there)) await server.run(`alter database ${name(there)} with allow_connections true`);
      await drop(next);
      await makeDatabase(id, next, []);
      await copies.fill(next, ownerOf(id), id, await from.open());
      await server.run(`comment on database ${name(next)} is ${text(turn)}`);
      await drop(before);
      // Programs that are open lose their sessions, and find the other database under the name when they come again.
      if (await has(there)) await server.run(`alter database ${name(there)} with allow_connections false`);
      try {
        await server.run('select pg_terminate_backend(pid) from pg_stat_activity where datname = any($1)', [
          [there, next],
        ]);
        await changePlaces(there, next, before);
      } catch (error) {
        if (await has(there)) await server.run(`alter database ${name(there)} with allow_connections true`);
        throw error;
      }
      await drop(before);
    },
    async tryOut(id, copy, _spec, from) {
      const place = `t_${hex(copy)}`;
      try {
        await drop(place);
        await makeDatabase(id, place, []);
        await copies.fill(place, ownerOf(id), copy, await from.open());
        return { ...(await copies.count(place)), files: null };
      } finally {
        await drop(place);
      }
    },
    async dropLogin(id) {
      const who = loginOf(id);
      await endSessions(who);
      await server.run(`drop role if exists ${name(who)}`);
    },
    async remove(id) {
      const owner = ownerOf(id);
      const members = await server.run<{ who: string }>(
        `select m.rolname as who from pg_auth_members a join pg_roles m on m.oid = a.member join pg_roles o on o.oid = a.roleid
         where o.rolname = $1 and m.rolname like 'l\\_%'`,
        [owner],
      );
      // The database first: with it goes all that the roles could own.
      const there = await server.run<{ name: string }>(
        'select datname::text as name from pg_database where datname = any($1::name[])',
        [[databaseOf(id), nextOf(id), beforeOf(id)]],
      );
      for (const database of there) await drop(database.name);
      const roles = [...members.map(({ who }) => who), readerOf(id), owner];
      await server.run('select pg_terminate_backend(pid) from pg_stat_activity where usename = any($1::name[])', [
        roles,
      ]);
      await server.run(`drop role if exists ${roles.map(name).join(', ')}`);
      // Said to be gone only when it was looked for.
      const left = await server.run<{ name: string }>(
        `select datname::text as name from pg_database where datname = any($1::name[])
         union all select rolname::text from pg_roles where rolname = any($2::name[])`,
        [[databaseOf(id), nextOf(id), beforeOf(id)], roles],
      );
      if (left.length) throw new Error(`still there: ${left.map((one) => one.name).join(', ')}`);
    },
    async close() {
      await spare.close();
      await server.close();
    },
  };
  return kind;
}
