/** What was told, or is to be. */
import type { InferAttributes } from 'sequelize';
import type { DeliveryStep } from '../../core/advance/deliveries.js';
import type { HeardEvent } from '../../core/alerts/match.js';
import { toldTypes } from '../../core/alerts/match.js';
import type { Item } from '../../core/alerts/words.js';
import { type Db, json, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import type { Delivery } from '../models/deliveries/deliveries.js';

export type DeliveryRow = InferAttributes<Delivery>;

const columns =
  'id, subscription_id, number::text as number, items, state, tries, issue, not_before, created_at, ended_at';

/**
 * Events after a number of which subscriptions of a kind are told, of one project where it is named, in their order; `by` is whose doing
 * a run, or the run behind a deployment, was.
 */
export const heardEvents = (
  db: Db,
  { kind, project }: { kind: keyof typeof toldTypes; project: string | null },
  after: string,
  limit: number,
): Promise<(HeardEvent & { name: string | null })[]> =>
  query(
    db,
    `with heard as (
       select number, type, project_id, subject, data, actor, at from events
       where number > $1::bigint and type in (${toldTypes[kind].map((one) => `'${one}'`).join(', ')}) and ($2::uuid is null or project_id = $2)
       order by number limit $3
     )
     select e.number::text as number, e.type, e.project_id as project, p.name, e.subject,
       case when e.type = 'deployment.state' then e.data || jsonb_build_object('review', coalesce(n.kind = 'review', false)) else e.data end as data,
       coalesce(r.actor, b.actor, e.actor) as by, extract(epoch from e.at)::float8 * 1000 as at
     from heard e left join projects p on p.id = e.project_id
       left join runs r on r.project_id = e.project_id and e.type like 'run.%' and r.number = substring(e.subject from '^run ([0-9]{1,9})$')::int
       left join deployments d on d.project_id = e.project_id and e.type = 'deployment.state' and d.number = substring(e.subject from '^d([0-9]{1,9})$')::int
       left join environments n on n.id = d.environment_id
       left join releases l on l.id = d.release_id
       left join runs b on b.id = l.run_id
     order by e.number`,
    [after, project, limit],
  );

export async function addDeliveries(
  db: Db,
  subscription: string,
  rows: readonly { number: string; items: readonly Item[]; waitMs: number }[],
): Promise<void> {
  for (const { number, items, waitMs } of rows)
    await query(
      db,
      `insert into deliveries (id, subscription_id, number, items, not_before) values ($1, $2, $3::bigint, $4, now() + $5::int * interval '1 ms')`,
      [newId(), subscription, number, json(items), waitMs],
    );
}

/** The message that is still open for more: nobody has tried to send it. */
export const openDelivery = (db: Db, subscription: string): Promise<DeliveryRow | null> =>
  queryOne(
    db,
    `select ${columns} from deliveries where subscription_id = $1 and state = 'waiting' and tries = 0 and not_before > now() order by number desc limit 1`,
    [subscription],
  );
export const setItems = (db: Db, id: string, items: readonly Item[]): Promise<unknown> =>
  query(db, 'update deliveries set items = $2 where id = $1', [id, json(items)]);

/** The first that waits, and milliseconds until it is to be sent. */
export const firstWaiting = (db: Db, subscription: string): Promise<(DeliveryRow & { in_ms: number }) | null> =>
  queryOne(
    db,
    `select ${columns}, (extract(epoch from not_before - now()) * 1000)::float8 as in_ms from deliveries
     where subscription_id = $1 and state = 'waiting' order by number, id limit 1`,
    [subscription],
  );

export const settleDelivery = (db: Db, id: string, { state, tries, issue, againMs }: DeliveryStep): Promise<unknown> =>
  query(
    db,
    `update deliveries set state = $2, tries = $3, issue = $4, ended_at = case when $2 = 'waiting' then null else now() end,
       not_before = case when $5::float8 is null then not_before else now() + $5::float8 * interval '1 ms' end
     where id = $1`,
    [id, state, tries, issue === null ? null : json(issue), againMs],
  );

/** More than so many that wait: the oldest are left out. Gives how many. */
export const leaveOut = async (db: Db, subscription: string, most: number): Promise<number> =>
  (
    await query(
      db,
      `update deliveries set state = 'given up', ended_at = now() where id in (
         select id from deliveries where subscription_id = $1 and state = 'waiting' order by number desc, id desc offset $2)
       returning 1`,
      [subscription, most],
    )
  ).length;

export const deliveriesOf = (db: Db, subscription: string, limit: number): Promise<DeliveryRow[]> =>
  query(db, `select ${columns} from deliveries where subscription_id = $1 order by id desc limit $2`, [
    subscription,
    limit,
  ]);

export const dropOldDeliveries = (db: Db): Promise<unknown> =>
  query(db, `delete from deliveries where state <> 'waiting' and ended_at < now() - interval '30 days'`);
