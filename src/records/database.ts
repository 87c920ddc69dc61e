/**
 * The one way to PostgreSQL: typed rows from SQL with bound parameters, transactions, and notifications.
 *
 * `transition` is a transaction that has a name: state and events change in it together. Tests let the process die right
 * before or after a named one is committed (`crash`).
 */
import pg from 'pg';
import { QueryTypes, Sequelize, type Transaction } from 'sequelize';

export interface Db {
  /** Rows of a statement; `$1`, `$2` … are bound. */
  rows<T>(sql: string, bind?: unknown[]): Promise<T[]>;
  /** The first row, or null. */
  one<T>(sql: string, bind?: unknown[]): Promise<T | null>;
  /** Topics to tell of at the commit; none outside a transition. */
  topics?: Set<string>;
}

export interface Records extends Db {
  transition<T>(name: string, work: (db: Db) => Promise<T>): Promise<T>;
  /** A transition that is one statement: it needs no transaction around it. */
  single<T>(name: string, work: (db: Db) => Promise<T>): Promise<T>;
  /** Calls back for each notification until closed; reconnects by itself and then calls back with `*` (anything may have happened). */
  listen(heard: (topic: string) => void): Promise<{ close(): Promise<void> }>;
  /** Statements one after another, outside a transaction of ours (migrations bring their own). */
  script(sql: string): Promise<void>;
  close(): Promise<void>;
}

export interface RecordsOptions {
  /** postgres://… */
  url: string;
  /** Connections at most; default 8. */
  pool?: number;
  crash?: (point: string) => void;
}

const channel = 'tsunagi';
/** What a listener hears when nothing is heard any more, until it hears `*`. */
export const lostTopic = '!';

/**
 * A value as bound text of a JSON column. PostgreSQL keeps neither NUL nor half a surrogate pair, which JSON may carry: each
 * becomes U+FFFD, so that what a stranger or a program wrote can always be recorded.
 */
export function json(value: unknown): string {
  const text = JSON.stringify(value);
  // Half a pair is what JSON.stringify escapes (ECMA-262, well-formed); a backslash of the text itself stands doubled.
  return /\\u(0000|d[89a-f])/.test(text)
    ? text.replace(/\\\\|\\u0000|\\ud[89a-f][0-9a-f]{2}/g, (found) => (found === '\\\\' ? found : '\ufffd'))
    : text;
}

/** A text as PostgreSQL can keep it: no NUL in it. */
const storable = (value: unknown): unknown => {
  if (typeof value === 'string') return value.includes('\0') ? value.replaceAll('\0', '\ufffd') : value;
  return Array.isArray(value) ? value.map(storable) : value;
};

export function openRecords({ url, pool = 8, crash = () => {} }: RecordsOptions): Records {
  const sequelize = new Sequelize(url, {
    dialect: 'postgres',
    logging: false,
    pool: { max: pool, min: 1, idle: 30_000, acquire: 20_000 },
    retry: { max: 0 },
  });
  const on = (transaction?: Transaction): Db => {
    const rows = async <T>(sql: string, bind: unknown[] = []): Promise<T[]> =>
      (await sequelize.query(sql, {
        ...(bind.length ? { bind: bind.map(storable) } : {}),
        type: QueryTypes.SELECT,
        raw: true,
        ...(transaction ? { transaction } : {}),
      })) as T[];
    return { rows, one: async (sql, bind) => (await rows<never>(sql, bind))[0] ?? null };
  };
  return {
    ...on(),
    async transition(name, work) {
      for (let tries = 1; ; tries++) {
        try {
          const result = await sequelize.transaction(async (transaction) => {
            const db: Db = { ...on(transaction), topics: new Set() };
            const value = await work(db);
            if (db.topics?.size) await tell(db, [...db.topics]);
            crash(`${name}:before`);
            return value;
          });
          crash(`${name}:after`);
          return result;
        } catch (error) {
          if (tries >= 4 || !mayRepeat(error)) throw error;
        }
      }
    },
    async single(name, work) {
      for (let tries = 1; ; tries++) {
        try {
          crash(`${name}:before`);
          const result = await work(on());
          crash(`${name}:after`);
          return result;
        } catch (error) {
          if (tries >= 4 || !mayRepeat(error)) throw error;
        }
      }
    },
    listen: (heard) => listen(url, heard),
    async script(sql) {
      await sequelize.query(sql, { raw: true });
    },
    close: () => sequelize.close(),
  };
}

/** A deadlock or a serialization failure: all was rolled back, the same work may succeed at once. */
function mayRepeat(error: unknown): boolean {
  const code = (error as { parent?: { code?: string } }).parent?.code;
  return code === '40P01' || code === '40001';
}

/** Tells everyone who listens that something about `topic` has changed; in a transition once, at its end. */
export async function notify(db: Db, ...topics: string[]): Promise<void> {
  if (!db.topics) return void (await tell(db, topics));
  for (const topic of topics) db.topics.add(topic);
}

const tell = (db: Db, topics: string[]): Promise<unknown> =>
  db.rows(`select pg_notify('${channel}', topic) from unnest($1::text[]) topic`, [topics]);

async function listen(url: string, heard: (topic: string) => void): Promise<{ close(): Promise<void> }> {
  let closed = false;
  let client: pg.Client | null = null;
  let timer: NodeJS.Timeout | null = null;
  const connect = async (): Promise<void> => {
    const next = new pg.Client({ connectionString: url });
    client = next;
    const again = () => {
      if (closed || client !== next) return;
      client = null;
      heard(lostTopic);
      next.end().catch(() => {});
      timer = setTimeout(() => connect().then(() => heard('*'), again), 500);
    };
    next.on('error', again);
    next.on('end', again);
    next.on('notification', (message) => heard(message.payload ?? ''));
    try {
      await next.connect();
      await next.query(`listen ${channel}`);
    } catch (error) {
      if (closed) return;
      again();
      throw error;
    }
  };
  await connect();
  return {
    async close() {
      closed = true;
      if (timer) clearTimeout(timer);
      await client?.end().catch(() => {});
    },
  };
}
