/** Statements that come again are planned once, and nobody notices but by the time: not when tables change under them, nor how many there are. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { openRecords, query, queryOne, type Records } from '../../src/records/database.js';
import { openPlans, outdated } from '../../src/records/plans.js';
import { type Cluster, openCluster } from './cluster.js';

let cluster: Cluster;
let records: Records;
beforeAll(async () => {
  cluster = await openCluster(2);
  // One connection: what is prepared on it can be looked at.
  records = openRecords({ url: cluster.url, pool: 1 });
});
afterAll(async () => {
  await records?.close();
  await cluster?.close();
});

const prepared = async (text: string): Promise<number> =>
  (
    await queryOne<{ count: number }>(
      records,
      `select count(*)::int as count from pg_prepared_statements where statement like '%${text}%'`,
    )
  )?.count ?? 0;

describe('a statement', () => {
  it('is prepared when it has come often enough, once', async () => {
    const sql = 'select $1::int + 1 as one_more';
    for (const [times, count] of [
      [1, 0],
      [2, 0],
      [3, 1],
      [4, 1],
      [50, 1],
    ] as const) {
      expect(await queryOne(records, sql, [times])).toEqual({ one_more: times + 1 });
      expect([times, await prepared('one_more')]).toEqual([times, count]);
    }
    // What is asked without values stays as it is: it may be several.
    for (let times = 0; times < 5; times++) await query(records, 'select 2 as without_values');
    expect(await prepared('without_values')).toBe(0);
  });

  it('is planned with its values each time where one of them may leave a condition out', async () => {
    const sql =
      'select count(*)::int as any_of from generate_series(1, 9) n where ($1::int is null or n = $1) and n <= $2';
    for (let times = 0; times < 9; times++) {
      expect(await queryOne(records, sql, [null, times])).toEqual({ any_of: times });
      expect(await queryOne(records, sql, [9, 9])).toEqual({ any_of: 1 });
    }
    expect(await prepared('any_of')).toBe(0);
  });

  it('goes on when a table has changed under it, within a transition, too', async () => {
    await records.script('create table berths (name text)');
    await query(records, `insert into berths values ($1)`, ['north']);
    const sql = 'select * from berths where name = $1';
    for (let times = 0; times < 4; times++) expect(await query(records, sql, ['north'])).toEqual([{ name: 'north' }]);
    expect(await prepared('from berths where')).toBe(1);
    await records.script('alter table berths add column length int default 40');
    const asked = () => records.transition('asked', (db) => query(db, sql, ['north']));
    expect(await asked()).toEqual([{ name: 'north', length: 40 }]);
    for (let times = 0; times < 4; times++) expect(await asked()).toEqual([{ name: 'north', length: 40 }]);
    await records.script('alter table berths alter column length type text');
    expect(await records.single('asked', (db) => query(db, sql, ['north']))).toEqual([{ name: 'north', length: '40' }]);
    await records.script('drop table berths');
    await expect(asked()).rejects.toThrow(/berths/);
  });

  it('says its errors as it did', async () => {
    for (let times = 0; times < 5; times++)
      await expect(query(records, 'select 1 / $1::int as never', [0])).rejects.toThrow(/division by zero/);
    expect(await queryOne(records, 'select 1 / $1::int as never', [1])).toEqual({ never: 1 });
  });

  it('takes no more than its share of names, however many there are', async () => {
    for (let text = 0; text < 400; text++)
      for (let times = 0; times < 3; times++) await query(records, `select $1::int as many_${text}`, [times]);
    const all = await prepared('many_');
    expect(all).toBeGreaterThan(100);
    expect(all).toBeLessThanOrEqual(250);
    expect(await queryOne(records, 'select $1::int as many_399', [7])).toEqual({ many_399: 7 });
  });
});

describe('names', () => {
  it('are never given twice, and what comes once gets none', () => {
    const plans = openPlans();
    const names = new Set<string>();
    for (let text = 0; text < 300; text++) {
      expect(plans.nameOf(`once ${text}`)).toBeNull();
      for (let times = 0; times < 3; times++) {
        const name = plans.nameOf(`often ${text}`);
        if (name) names.add(name);
      }
    }
    expect(names.size).toBe(250);
    const first = plans.nameOf('often 0');
    plans.forget('often 0');
    expect(plans.nameOf('often 0')).not.toBe(first);
    expect([
      outdated({ code: '0A000', message: 'cached plan must not change result type' }),
      outdated({ code: '0A000' }),
      outdated(new Error('x')),
    ]).toEqual([true, false, false]);
  });
});
