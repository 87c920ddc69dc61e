/**
 * Copies of databases that nobody uses, and databases that are made of them.
 *
 * What scrub has left is written out and read in anew: rows that were deleted or changed, what materialised views hold and what the
 * server keeps as statistics are of before, and stand in the files and catalogues of a database until then.
 */
import { statfs } from 'node:fs/promises';
import { isIP } from 'node:net';
import { PassThrough, type Readable } from 'node:stream';
import { CodedError } from '../../core/errors/errors.js';
import type { StoredBytes } from '../kinds.js';
import type { Copies } from './copies.js';
import { codeOf, name, type Server, text } from './server.js';

/** Bytes from which a database is copied file by file: less is written, but all of the server is brought to its disk twice. */
const filesFrom = 100 * 1024 ** 2;
/** Databases that are made of others at a time, on one server; and the two numbers of the locks for that. */
const atOnce = 2;
const lockClass = 7_403_122;

export interface Names {
  database: string;
  owner: string;
  next: string;
}

/** Makes one of another, which is left as it is. It has its own name only when it is whole. Throws `snapshot_gone`. */
export async function copyTemplate(
  server: Server,
  from: Pick<Names, 'database' | 'owner'>,
  to: Names,
  drop: (database: string) => Promise<unknown>,
): Promise<void> {
  const there = async (database: string) =>
    (await server.run('select 1 from pg_database where datname = $1', [database])).length > 0;
  if (await there(to.database)) return;
  await drop(to.next);
  await server.within('postgres', null, async (client) => {
    await client.query('set statement_timeout = 0');
    // Whoever made one and died has let it go with its session.
    await client.query('select pg_advisory_lock($1, $2)', [lockClass, Math.floor(Math.random() * atOnce)]);
    const { rows } = await client.query<{ bytes: string }>(
      'select pg_database_size(oid) as bytes from pg_database where datname = $1',
      [from.database],
    );
    const [found] = rows;
    if (!found) throw new CodedError('snapshot_gone');
    const { rows: said } = await client.query<{ version: number }>(
      `select current_setting('server_version_num')::int as version`,
    );
    // Servers before 15 know one way.
    const strategy =
      (said[0]?.version ?? 0) < 150_000
        ? ''
        : Number(found.bytes) >= filesFrom
          ? 'strategy file_copy'
          : 'strategy wal_log';
    await client.query(`create database ${name(to.next)} template ${name(from.database)} ${strategy}`);
    // Others have logins on this server: who owns it gets in below, and is the first.
    await client.query(`revoke all on database ${name(to.next)} from public`);
  });
  // The role of before owns no database: with what is in this one it loses nothing else.
  await server.within(to.next, null, async (client) => {
    await client.query(`set statement_timeout = 0; reassign owned by ${name(from.owner)} to ${name(to.owner)}`);
  });
  await server.run(
    `comment on database ${name(to.next)} is ${text(from.database)};
     alter database ${name(to.next)} rename to ${name(to.database)}`,
  );
}

/** The contents of a database as it is now, written out where they are read. Ends only when all of it was. */
export function contentsOf(copies: Copies, { database, owner }: Names, copy: string): StoredBytes {
  return {
    digest: '',
    async open(): Promise<Readable> {
      const bytes = new PassThrough();
      copies
        .backUp(database, owner, copy, bytes, new AbortController().signal)
        .catch((error: Error) => bytes.destroy(error));
      return bytes;
    },
  };
}

/** Tells what is in it, as its owner: indexes of expressions are somebody's code. Nobody enters it after that; gives its bytes. */
export async function closeTemplate(server: Server, { database, owner }: Names): Promise<number> {
  const [found] = await server.run<{ open: boolean }>(
    'select datallowconn as open from pg_database where datname = $1',
    [database],
  );
  if (!found) throw new CodedError('database_gone');
  if (found.open) {
    await server.within(database, null, async (client) => {
      await client.query(`set statement_timeout = 0; set role ${name(owner)}; set search_path = ''`);
      await client.query('analyze');
    });
    await server.run(`alter database ${name(database)} with allow_connections false`);
  }
  const [size] = await server.run<{ bytes: string }>('select pg_database_size($1::name) as bytes', [database]);
  return Number(size?.bytes ?? 0);
}

/** Bytes that are free where a server of this machine keeps its data; null of others. */
export async function freeAt(server: Server): Promise<number | null> {
  const here = server.address === 'localhost' || (isIP(server.address) > 0 && /^(127\.|::1$)/.test(server.address));
  if (!here) return null;
  try {
    const [row] = await server.run<{ data_directory: string }>('show data_directory');
    const { bavail, bsize } = await statfs(row?.data_directory ?? '');
    return bavail * bsize;
  } catch (error) {
    // What this service may not see it says nothing of.
    if (['EACCES', 'ENOENT', '42501'].includes(codeOf(error))) return null;
    throw error;
  }
}
