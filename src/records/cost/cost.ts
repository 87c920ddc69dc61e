/** Prices, and what was taken in a span of hours. */
import type { InferAttributes } from 'sequelize';
import type { Prices } from '../../core/cost/cost.js';
import { type Db, query, tables } from '../database.js';
import { firstIdFrom, newId } from '../ids.js';
import type { Price } from '../models/cost/prices.js';

export type PriceRow = InferAttributes<Price>;

export async function pricesNow(db: Db): Promise<PriceRow | null> {
  const { Price, in: within } = tables(db);
  return (await Price.findOne({ order: [['id', 'desc']], raw: true, ...within })) as PriceRow | null;
}

export async function setPrices(db: Db, prices: Prices, actor: string): Promise<void> {
  const { currency, memory, cpu } = prices;
  await query(db, 'insert into prices (id, currency, memory, cpu, actor) values ($1, $2, $3, $4, $5)', [
    newId(),
    currency,
    memory,
    cpu,
    actor,
  ]);
}

export interface TakenRow {
  environment_id: string;
  project: string;
  environment: string;
  /** GiB × hours. */
  memory: number;
  /** Cores × hours. */
  cpu: number;
  /** The first hour that was counted, milliseconds since the epoch, and how many were. */
  since: number;
  hours: number;
  /** Of a review: when it closed, milliseconds since the epoch; null: it is open. */
  review: boolean;
  closed: number | null;
}

const literal = (at: number): string => `timestamptz '${new Date(at).toISOString()}'`;

/** What each environment took in whole hours of a span (milliseconds since the epoch), closed ones too. */
export const takenIn = (db: Db, from: number, until: number, project: string | null): Promise<TakenRow[]> =>
  query(
    db,
    `select e.id as environment_id, p.name as project, e.name as environment, t.memory, t.cpu, t.since, t.hours, e.kind = 'review' as review,
       case when e.state = 'closed' then extract(epoch from e.state_since)::float8 * 1000 end as closed from (
       select environment_id, sum(memory / 1073741824.0)::float8 as memory, (sum(cpu::bigint) / 3600000.0)::float8 as cpu,
         extract(epoch from min(at))::float8 * 1000 as since, count(distinct at)::int as hours
       from figures where step = 3600 and at >= ${literal(from)} and at < ${literal(until)} group by environment_id) t
     join environments e on e.id = t.environment_id join projects p on p.id = e.project_id
     where p.removed_at is null and ($1::uuid is null or p.id = $1) order by p.name, e.name`,
    [project],
  );

export interface SavedRow {
  project: string;
  tasks: number;
  /** Hours for which the work that was not done again had run. */
  hours: number;
}

/** What reuse has saved in a span: tasks whose result was there, and how long they had run. */
export const savedIn = (db: Db, from: number, project: string | null): Promise<SavedRow[]> =>
  query(
    db,
    `select p.name as project, count(*)::int as tasks,
       (coalesce(sum(extract(epoch from a.ended_at - a.started_at)), 0) / 3600)::float8 as hours
     from runs r join tasks t on t.run_id = r.id and t.state = 'reused' join attempts a on a.id = t.attempt_id
       join projects p on p.id = r.project_id
     where r.id >= $2::uuid and p.removed_at is null and ($1::uuid is null or p.id = $1)
     group by p.name order by p.name`,
    [project, firstIdFrom(from)],
  );
