/** Statements that the records have done, as their server counts them. */
import pg from 'pg';
import type { Bench } from './harness.js';

export interface Counted {
  records: pg.Client;
  now(): Promise<{ statements: number; transactions: number }>;
}

export async function openCounted({ house }: Bench): Promise<Counted> {
  const records = new pg.Client({ connectionString: house.database });
  await records.connect();
  await records.query('create extension if not exists pg_stat_statements');
  return {
    records,
    async now() {
      const { rows } = await records.query(
        `select sum(calls) as statements, sum(calls) filter (where query ilike 'start transaction%') as transactions
         from pg_stat_statements s join pg_database d on d.oid = s.dbid where d.datname = current_database()`,
      );
      return { statements: Number(rows[0].statements ?? 0), transactions: Number(rows[0].transactions ?? 0) };
    },
  };
}
