/** A PostgreSQL server as its administrator sees it: statements, and what its refusals mean. */
import pg from 'pg';
import { CodedError, type Issue, issue } from '../../core/errors/errors.js';
import type { Outcome } from '../../core/advance/resources.js';

export interface Server {
  address: string;
  port: number;
  /** Statements in the administrator's own database. */
  run<T extends pg.QueryResultRow>(sql: string, bind?: unknown[]): Promise<T[]>;
  /** Statements in another database, by the administrator or by a login of its own. */
  within<T>(
    database: string,
    login: { user: string; password: string } | null,
    work: (client: pg.Client) => Promise<T>,
  ): Promise<T>;
  close(): Promise<void>;
}

/** Milliseconds for one statement of the administrator's: nothing that is made here takes longer. */
const statementMs = 60_000;
const connectMs = 5_000;

export const name = pg.escapeIdentifier;
export const text = pg.escapeLiteral;

/** The server at an administrator's address. Nothing is asked of it yet. */
export function openServer(url: string): Server {
  const parsed = new URL(url);
  const pool = new pg.Pool({
    connectionString: url,
    max: 4,
    idleTimeoutMillis: 10_000,
    allowExitOnIdle: true,
    connectionTimeoutMillis: connectMs,
    statement_timeout: statementMs,
  });
  // A server that goes away is met by the next statement; without a listener it would end the process.
  pool.on('error', () => {});
  return {
    address: parsed.hostname.replace(/^\[|\]$/g, ''),
    port: Number(parsed.port || 5432),
    run: async (sql, bind = []) => (await pool.query(sql, bind)).rows,
    async within(database, login, work) {
      const address = new URL(url);
      address.pathname = `/${encodeURIComponent(database)}`;
      if (login) {
        address.username = encodeURIComponent(login.user);
        address.password = encodeURIComponent(login.password);
      }
      const client = new pg.Client({
        connectionString: address.href,
        connectionTimeoutMillis: connectMs,
        statement_timeout: statementMs,
      });
      client.on('error', () => {});
      try {
        await client.connect();
        return await work(client);
      } finally {
        await client.end().catch(() => {});
      }
    },
    close: () => pool.end(),
  };
}

/** SQLSTATE of an error, or the system's code. */
export const codeOf = (error: unknown): string => String((error as { code?: unknown }).code ?? '');

/** Classes of SQLSTATE after which the same may succeed: connection, resources of the server, operator's acts, system. */
const passing = /^(08|53|57|58|40|55)/;

/** What an error of a server means for what was asked of it. */
export function outcomeOf(error: unknown): Outcome & { done: false } {
  const said = (found: Issue, again: boolean) => ({ done: false as const, again, issue: found });
  // What waits for an agent is had when that is there.
  if (error instanceof CodedError)
    return said(error.issue, error.retry && /^(volume_|snapshot_gone$)/.test(error.issue.code));
  const code = codeOf(error);
  const detail = oneLine((error as Error).message);
  if (code === '3D000') return said(issue('database_gone'), false);
  if (code === '53100') return said(issue('database_disk', { detail }), true);
  if (passing.test(code) || !/^[0-9A-Z]{5}$/.test(code)) return said(issue('database_away', { detail }), true);
  return said(issue('database_refused', { detail }), false);
}

export const oneLine = (words: string): string => words.split('\n')[0]?.slice(0, 300) ?? '';
