/**
 * A database that is kept elsewhere: somebody gave its address and login. Tsunagi makes and removes nothing there; programs get what was
 * given. It connects to the very address that was checked, and names the host to it (TLS).
 */
import pg from 'pg';
import { CodedError } from '../../core/errors/errors.js';
import type { DatabaseKind } from './kind.js';

/** Milliseconds for which a server elsewhere may take to answer. */
const answerMs = 5_000;

/** The parts of an address that was given; throws `database_address` where it is none. */
export function partsOf(text: string): { host: string; port: number; database: string; tls: 'no' | 'yes' | 'checked' } {
  let url: URL;
  try {
    url = new URL(text);
  } catch {
    throw new CodedError('database_address', { why: 'it cannot be read as an address' });
  }
  const database = decodeURIComponent(url.pathname.slice(1));
  if (url.protocol !== 'postgres:' && url.protocol !== 'postgresql:')
    throw new CodedError('database_address', { why: 'it does not begin with postgres://' });
  if (!url.hostname || !url.username || !url.password || !database || database.includes('/'))
    throw new CodedError('database_address', { why: 'it wants a user, a password, a host and the name of a database' });
  const mode = url.searchParams.get('sslmode') ?? 'prefer';
  return {
    host: url.hostname.replace(/^\[|\]$/g, ''),
    port: Number(url.port || 5432),
    database,
    tls: mode.startsWith('verify') ? 'checked' : mode === 'require' ? 'yes' : 'no',
  };
}

export function elsewhere(text: string, check: (host: string) => Promise<string>): DatabaseKind {
  const url = new URL(text);
  const { host, port, database, tls } = partsOf(text);
  const [user, password] = [decodeURIComponent(url.username), decodeURIComponent(url.password)];
  const nobody = (): never => {
    throw new CodedError('resource_elsewhere');
  };
  return {
    kind: 'postgres',
    async make() {
      const client = new pg.Client({
        host: await check(host),
        port,
        database,
        user,
        password,
        connectionTimeoutMillis: answerMs,
        statement_timeout: answerMs,
        ssl: tls === 'no' ? false : { servername: host, rejectUnauthorized: tls === 'checked' },
      });
      client.on('error', () => {});
      try {
        await client.connect();
        await client.query('select 1');
      } finally {
        await client.end().catch(() => {});
      }
    },
    addLogin: async () => {},
    endLogin: async () => {},
    references: () => ({ url: text, host, port: String(port), user, password, database }),
    reached: () => ({ address: host, port }),
    look: async () => nobody(),
    lookAt: async () => nobody(),
    there: async () => ({ resources: [], logins: [] }),
    // Its own programs are not told from others there.
    crowd: async () => ({ sessions: 0, most: 1 }),
    busy: async () => 0,
    allow: async () => nobody(),
    backUp: async () => nobody(),
    restore: async () => nobody(),
    tryOut: async () => nobody(),
    fill: async () => nobody(),
    settle: async () => nobody(),
    makeOf: async () => nobody(),
    free: async () => null,
    tables: async () => nobody(),
    rows: async () => nobody(),
    dropLogin: async () => {},
    remove: async () => {},
    close: async () => {},
  };
}
