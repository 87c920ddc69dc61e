/**
 * Statements that come again are prepared under a name, on each connection for itself: the server reads their text once, and keeps a plan
 * where one fits all values (PostgreSQL 15, PREPARE: `plan_cache_mode`). Most statements of a step are planned for longer than they run.
 */
import { LRUCache } from 'lru-cache';
import type pg from 'pg';

/** Times that a text has come before it gets a name: what is written for one question alone never does. */
const often = 3;
/**
 * A value of it may leave a condition out (`$1 is null or …`): then it is several statements in one. A plan for all values takes each
 * condition for one that picks a few rows; the board was asked for by such a plan, and took five times as long.
 */
const several = /\$\d+(?:::\w+(?:\[\])?)? is null or /;
/** Names at a time. Each is a plan in the memory of the server, once for each connection. */
const mostNames = 250;
/** Texts that are watched. */
const mostTexts = 2_000;

export interface Plans {
  /** From now on statements with values of this connection are prepared where they come often. */
  use(connection: pg.Client): void;
  /** The name of a text that has come again; null: it has none (yet), or is planned with its values each time. */
  nameOf(text: string): string | null;
  forget(text: string): void;
}

type Done = (error: Error & { code?: string }, result: pg.QueryResult) => void;

/** What a plan answers with has changed since it was made: another service has brought the tables up to date. */
export const outdated = (error: unknown): boolean => {
  const { code, message = '' } = error as { code?: string; message?: string };
  return code === '0A000' && message.includes('cached plan');
};

export function openPlans(): Plans {
  const seen = new LRUCache<string, number>({ max: mostTexts });
  const names = new Map<string, string>();
  // Never given twice: a name stays on the connections that know it.
  let count = 0;
  const plans: Plans = {
    nameOf(text) {
      const name = names.get(text);
      if (name) return name;
      if (several.test(text)) return null;
      const times = (seen.get(text) ?? 0) + 1;
      seen.set(text, times);
      if (times < often || names.size >= mostNames) return null;
      const fresh = `s${++count}`;
      names.set(text, fresh);
      return fresh;
    },
    forget: (text) => void names.delete(text),
    use(connection) {
      const plain = connection.query.bind(connection) as (...args: unknown[]) => unknown;
      (connection as { query: unknown }).query = (text: unknown, values?: unknown, done?: Done) => {
        const name = typeof text === 'string' && Array.isArray(values) && done ? plans.nameOf(text) : null;
        if (name === null) return plain(text, values, done);
        return plain({ name, text, values }, (error: Error & { code?: string }, result: pg.QueryResult) => {
          // It gets another name, with another plan.
          if (error && outdated(error)) plans.forget(text as string);
          done?.(error, result);
        });
      };
    },
  };
  return plans;
}
