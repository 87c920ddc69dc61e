/**
 * Databases made for attempts, in a PostgreSQL cluster of their own: each with a login that reaches nothing else there.
 *
 * Names carry a hash of the owner, so that what a killed owner left behind is found and dropped at its next start, and nothing of another
 * one whose name begins with the same letters. PostgreSQL cuts names after 63 bytes; these have 51.
 */
import { createHash, randomBytes } from 'node:crypto';
import { setTimeout as pause } from 'node:timers/promises';
import pg from 'pg';
import { codeOf } from './server.js';

/** What a variable may come `from`. */
export interface DatabaseFields {
  url: string;
  host: string;
  port: string;
  user: string;
  password: string;
  database: string;
}

export interface Databases {
  /** The port on this machine's loopback. */
  port: number;
  /** Version of the server, such as `15.18`. */
  version: string;
  /** An empty database with its own login; reached from inside under the name `host`. */
  make(id: string, host: string): Promise<DatabaseFields>;
  /** Bytes that these take on disk together. */
  size(ids: readonly string[]): Promise<number>;
  /** Ends its sessions and drops it; what is gone already is no error. */
  drop(id: string): Promise<void>;
  /** Drops all that this owner made. */
  sweep(): Promise<void>;
  close(): Promise<void>;
}

/** Held while rights are changed that all agents of the cluster change. */
const ownLock = 7_403_151;

/** Milliseconds for which a server may refuse connections, and between two tries. */
const refusedMs = 15_000;
const againMs = 200;

/** What a server says that takes no connection just now: it starts or ends, all places are taken, or nothing listens. */
const refusals = ['57P03', '53300', 'ECONNREFUSED'];

async function connected(pool: pg.Pool): Promise<pg.PoolClient> {
  const deadline = Date.now() + refusedMs;
  for (;;) {
    try {
      return await pool.connect();
    } catch (error) {
      if (!refusals.includes(codeOf(error)) || Date.now() > deadline) throw error;
      await pause(againMs);
    }
  }
}

/** Opens the cluster at an administrator's address; `owner` is a short name of letters, digits and dashes. */
export async function openDatabases(address: string, owner: string): Promise<Databases> {
  const pool = new pg.Pool({ connectionString: address, max: 4, idleTimeoutMillis: 10_000, allowExitOnIdle: true });
  // A server that goes away is met by the next statement; without a listener it would end the process.
  pool.on('error', () => {});
  /** A statement; a server that refuses the connection, since it starts or is full, is asked again for a while. */
  const ask = async <T extends pg.QueryResultRow>(sql: string, bind: unknown[] = []): Promise<pg.QueryResult<T>> => {
    const client = await connected(pool);
    try {
      const result = await client.query<T>(sql, bind);
      client.release();
      return result;
    } catch (error) {
      client.release(error as Error);
      throw error;
    }
  };
  const prefix = `a_${createHash('sha256').update(owner).digest('hex').slice(0, 16)}_`;
  const nameOf = (id: string) => `${prefix}${id.replaceAll('-', '')}`;
  const port = Number(new URL(address).port || 5432);
  // One after the other: agents that begin at once would change the same rows of the catalogue, which PostgreSQL refuses.
  await ask(
    `begin; select pg_advisory_xact_lock(${ownLock}); revoke connect on database postgres, template1 from public; commit`,
  );
  const version = String((await ask('show server_version')).rows[0]?.server_version ?? '').split(' ')[0] ?? '';
  const dropNamed = async (name: string) => {
    await ask(`drop database if exists ${pg.escapeIdentifier(name)} with (force)`);
    await ask(`drop role if exists ${pg.escapeIdentifier(name)}`);
  };
  return {
    port,
    version,
    async make(id, host) {
      const name = nameOf(id);
      const quoted = pg.escapeIdentifier(name);
      const password = randomBytes(24).toString('base64url');
      await ask(`create role ${quoted} login password ${pg.escapeLiteral(password)} connection limit 50`);
      // What a query spills to disk is not in the size of its database.
      await ask(`alter role ${quoted} set temp_file_limit = '1GB'`);
      await ask(`create database ${quoted} owner ${quoted}`);
      await ask(`revoke connect, temporary on database ${quoted} from public`);
      return {
        url: `postgres://${name}:${password}@${host}:${port}/${name}`,
        host,
        port: String(port),
        user: name,
        password,
        database: name,
      };
    },
    async size(ids) {
      const { rows } = await ask<{ bytes: string }>(
        'select coalesce(sum(pg_database_size(oid)), 0) as bytes from pg_database where datname = any($1::text[])',
        [ids.map(nameOf)],
      );
      return Number(rows[0]?.bytes ?? 0);
    },
    drop: (id) => dropNamed(nameOf(id)),
    async sweep() {
      const like = `${prefix.replace(/[\\_%]/g, '\\$&')}%`;
      const { rows } = await ask<{ name: string }>(
        'select datname as name from pg_database where datname like $1 union select rolname from pg_roles where rolname like $1',
        [like],
      );
      for (const { name } of rows) await dropNamed(name);
    },
    close: () => pool.end(),
  };
}
