/**
 * The one way to PostgreSQL: models, typed rows from SQL with bound parameters, transactions, and notifications.
 *
 * `transition` is a transaction that has a name: state and events change in it together. Tests let the process die right
 * before or after a named one is committed (`crash`).
 */
import pg from 'pg';
import { fn, type Model, QueryTypes, Sequelize, type Transaction } from 'sequelize';
import { defineModels, type Models } from './models/models.js';
import { openPlans, outdated } from './plans.js';

declare const opaque: unique symbol;

/** A way to the records, in a transaction or not. Other rooms only pass it on: statements are the matter of this room alone. */
export interface Db {
  readonly [opaque]: true;
}

/** Topics to tell of, and events as texts of JSON, in their order. */
interface AtCommit {
  topics: Set<string>;
  events: string[];
}

/** What a `Db` is in this room. */
interface Session {
  sequelize: Sequelize;
  models: Models;
  transaction?: Transaction;
  /** What is recorded and told at the commit; none outside a transition. */
  atCommit?: AtCommit;
  /** What a transition has locked, where locks are checked (locks.ts). */
  held?: Held;
}

/** Keys of locked rows, and the highest of them. */
interface Held {
  all: Set<string>;
  last: string | null;
}

const sessionOf = (db: Db): Session => db as unknown as Session;

/** What this transition has locked so far; undefined outside a transition. */
export const heldLocks = (db: Db): Held | undefined => sessionOf(db).held;

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

/** The models, for reads by key, lists and simple changes; `in` goes with every call of theirs. */
export function tables(db: Db): Models & { in: { transaction?: Transaction } } {
  const { models, transaction } = sessionOf(db);
  return { ...models, in: transaction ? { transaction } : {} };
}

/** The database's own time, at the beginning of the transaction. */
export const now = () => fn('now') as unknown as Date;

/** Whether the database answers. */
export const ping = (db: Db): Promise<unknown> => query(db, 'select 1');

/** Rows of a statement that no model says well: claims, compare-and-set, bulk, reports. `$1`, `$2` … are bound. */
export async function query<T>(db: Db, sql: string, bind: unknown[] = []): Promise<T[]> {
  const { sequelize, transaction } = sessionOf(db);
  return (await sequelize.query(sql, {
    ...(bind.length ? { bind: bind.map(storable) } : {}),
    type: QueryTypes.SELECT,
    raw: true,
    ...(transaction ? { transaction } : {}),
  })) as T[];
}

/** The first row, or null. */
export const queryOne = async <T>(db: Db, sql: string, bind?: unknown[]): Promise<T | null> =>
  (await query<never>(db, sql, bind))[0] ?? null;

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

/** What PostgreSQL cannot keep: NUL, and half of a surrogate pair. */
const unstorable = /\0|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g;

/** A value as PostgreSQL can keep it, a text alone or in what becomes JSON: each such character becomes U+FFFD. */
const storable = (value: unknown): unknown => {
  if (typeof value === 'string') return value.replace(unstorable, '\ufffd');
  if (Array.isArray(value)) return value.map(storable);
  if (value === null || typeof value !== 'object' || Object.getPrototypeOf(value) !== Object.prototype) return value;
  return Object.fromEntries(Object.entries(value).map(([key, one]) => [storable(key), storable(one)]));
};

function keepStorable({ attributes }: { attributes: Record<string, unknown> }): void {
  for (const [name, value] of Object.entries(attributes)) attributes[name] = storable(value);
}

export function openRecords({ url, pool = 8, crash = () => {} }: RecordsOptions): Records {
  const sequelize = new Sequelize(url, {
    dialect: 'postgres',
    // The one that is here, also where all is one bundle.
    dialectModule: pg,
    logging: false,
    // A connection knows the plans of what it has done: those that are there stay for a while.
    pool: { max: pool, min: 1, idle: 600_000, acquire: 20_000 },
    retry: { max: 0 },
  });
  const plans = openPlans();
  sequelize.addHook('afterConnect', (connection) => plans.use(connection as pg.Client));
  const models = defineModels(sequelize);
  sequelize.addHook('beforeBulkUpdate', keepStorable as never);
  sequelize.addHook('beforeValidate', (row: Model) => {
    for (const [name, value] of Object.entries(row.dataValues as object)) row.set(name, storable(value));
  });
  const on = (more: Partial<Session> = {}): Db => ({ sequelize, models, ...more }) as unknown as Db;
  return {
    ...on(),
    async transition(name, work) {
      for (let tries = 1; ; tries++) {
        try {
          const result = await sequelize.transaction(async (transaction) => {
            const atCommit: AtCommit = { topics: new Set(), events: [] };
            const db = on({ transaction, atCommit, held: { all: new Set(), last: null } });
            const value = await work(db);
            if (atCommit.topics.size) await tell(db, atCommit);
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

/** A deadlock, a serialization failure, a plan of before: all was rolled back, the same work may succeed at once. */
function mayRepeat(error: unknown): boolean {
  const { parent } = error as { parent?: { code?: string } };
  return parent?.code === '40P01' || parent?.code === '40001' || outdated(parent ?? {});
}

/** `lock_timeout` has passed (SQLSTATE 55P03). */
export const lockedByOthers = (error: unknown): boolean =>
  (error as { parent?: { code?: string } }).parent?.code === '55P03';

/** Tells everyone who listens that something about `topic` has changed; in a transition once, at its end. */
export const notify = (db: Db, ...topics: string[]): Promise<void> => atEnd(db, { topics, events: [] });

/** An event as the records keep it. */
export interface EventRecord {
  type: string;
  project: string | null;
  subject: string;
  actor: string;
  data?: Record<string, unknown>;
}

/** Keeps events with what they tell of: in a transition at its end, with one statement for all that it does. */
export const keepEvents = (db: Db, events: readonly EventRecord[]): Promise<void> =>
  atEnd(db, { topics: ['events'], events: events.map((event) => json({ data: {}, ...event })) });

async function atEnd(db: Db, { topics, events }: { topics: string[]; events: string[] }): Promise<void> {
  const { atCommit } = sessionOf(db);
  if (!atCommit) return tell(db, { topics: new Set(topics), events });
  for (const topic of topics) atCommit.topics.add(topic);
  for (const event of events) atCommit.events.push(event);
}

async function tell(db: Db, { topics, events }: AtCommit): Promise<void> {
  const all = `select pg_notify('${channel}', topic) from unnest($1::text[]) topic`;
  if (events.length === 0) return void (await query(db, all, [[...topics]]));
  await query(
    db,
    `with kept as (
       insert into events (type, project_id, subject, actor, data)
       select e.type, e.project, e.subject, e.actor, e.data
       from jsonb_to_recordset($2::jsonb) as e(type text, project uuid, subject text, actor text, data jsonb))
     ${all}`,
    [[...topics], `[${events.join(',')}]`],
  );
}

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
