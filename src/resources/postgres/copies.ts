/**
 * Copies of a database in PostgreSQL's custom format, written and restored by its own programs.
 *
 * They work as a login of their own which acts as the database's owner role, with an empty search path: views, defaults and indexes of
 * the database are somebody's code, and never run with an administrator's rights.
 */
import { randomBytes } from 'node:crypto';
import type { Readable, Writable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type pg from 'pg';
import { CodedError } from '../../core/errors/errors.js';
import { runProgram } from './programs.js';
import { codeOf, name, type Server, text } from './server.js';

/** Milliseconds for which a copy waits for a lock that somebody's change holds; then it is tried again. */
const lockMs = 10_000;
/** How long the login of a copy is good, should nobody be left to end it. */
const loginHours = 12;
const mostTables = 10_000;

export interface Copies {
  backUp(database: string, owner: string, copy: string, to: Writable, abort: AbortSignal): Promise<void>;
  /** Fills an empty database that is there. */
  fill(database: string, owner: string, copy: string, from: Readable): Promise<void>;
  count(database: string): Promise<{ tables: number; rows: number }>;
}

export function openCopies(server: Server): Copies {
  /** Works with a login that is there only meanwhile. */
  async function withLogin<T>(
    database: string,
    owner: string,
    copy: string,
    work: (login: { user: string; password: string }) => Promise<T>,
  ): Promise<T> {
    const user = `w_${copy.replaceAll('-', '')}`;
    const password = randomBytes(24).toString('base64url');
    const until = new Date(Date.now() + loginHours * 3_600_000).toISOString();
    await drop(database, user);
    await server.run(
      `create role ${name(user)} login password ${text(password)} connection limit 4 valid until ${text(until)} in role ${name(owner)};
       alter role ${name(user)} set role = ${text(owner)};
       grant connect on database ${name(database)} to ${name(user)}`,
    );
    try {
      return await work({ user, password });
    } finally {
      await drop(database, user);
    }
  }
  async function drop(database: string, user: string): Promise<void> {
    const [found] = await server.run('select 1 from pg_roles where rolname = $1', [user]);
    if (!found) return;
    await server.run('select pg_terminate_backend(pid) from pg_stat_activity where usename = $1', [user]);
    // Where its programs are shut out, it got in by a right of its own.
    await server.run(`revoke all on database ${name(database)} from ${name(user)}`).catch((error: unknown) => {
      if (codeOf(error) !== '3D000') throw error;
    });
    await server.run(`drop role if exists ${name(user)}`);
  }
  const at = (database: string, login: { user: string; password: string }) => ({
    host: server.address,
    port: server.port,
    database,
    ...login,
  });
  return {
    backUp: (database, owner, copy, to, abort) =>
      withLogin(database, owner, copy, async (login) => {
        const { child, done } = runProgram(
          'pg_dump',
          ['--format=custom', '--no-owner', '--no-privileges', `--lock-wait-timeout=${lockMs}`],
          at(database, login),
          '-c search_path=',
        );
        const end = () => child.kill('SIGKILL');
        abort.addEventListener('abort', end, { once: true });
        try {
          if (abort.aborted) end();
          child.stdin?.end();
          await Promise.all([pipeline(child.stdout as Readable, to, { end: false }), done]);
          to.end();
        } catch (error) {
          end();
          to.destroy();
          if (abort.aborted) throw new CodedError('backup_gave_way');
          throw error;
        } finally {
          abort.removeEventListener('abort', end);
        }
      }),
    fill: (database, owner, copy, from) =>
      withLogin(database, owner, copy, async (login) => {
        const { child, done } = runProgram(
          'pg_restore',
          ['--no-owner', '--no-privileges', '--exit-on-error', `--dbname=${database}`],
          at(database, login),
          '-c search_path= -c statement_timeout=0',
        );
        child.stdout?.resume();
        await Promise.all([
          // A program that has ended takes no more: why it ended says its end.
          pipeline(from, child.stdin as Writable).catch((error: NodeJS.ErrnoException) => {
            if (error.code !== 'EPIPE' && error.code !== 'ERR_STREAM_PREMATURE_CLOSE') child.kill('SIGKILL');
          }),
          done,
        ]);
      }).finally(() => from.destroy()),
    count: (database) =>
      server.within(database, null, async (client) => {
        await client.query("set search_path = ''; set statement_timeout = 0; begin transaction read only");
        return countRows(client);
      }),
  };
}

/** Tables, and the rows in them; row security does not hold who counts. */
async function countRows(client: pg.Client): Promise<{ tables: number; rows: number }> {
  const { rows: tables } = await client.query<{ schema: string; name: string }>(
    `select n.nspname as schema, c.relname as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
     where c.relkind = 'r' and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' limit ${mostTables}`,
  );
  let rows = 0;
  for (const table of tables) {
    const { rows: counted } = await client.query<{ count: string }>(
      `select count(*) as count from only ${name(table.schema)}.${name(table.name)}`,
    );
    rows += Number(counted[0]?.count ?? 0);
  }
  return { tables: tables.length, rows };
}
