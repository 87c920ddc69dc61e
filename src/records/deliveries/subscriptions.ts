/** Who is told of what. One subscription is worked on by one at a time, under a fence; its cursor and what it has to tell change together. */
import type { InferAttributes } from 'sequelize';
import { toldTypes } from '../../core/alerts/match.js';
import type { Issue } from '../../core/errors/errors.js';
import { type Db, json, query, queryOne, tables } from '../database.js';
import { type Held, takeHeld } from '../held.js';
import { newId } from '../ids.js';
import type { Subscription } from '../models/deliveries/subscriptions.js';

export type SubscriptionRow = InferAttributes<Subscription>;

const columns =
  'id, name, channel, topics, project_id, environment, person_id, target, sealed, after::text as after, issue, fence::text as fence, due_at, lease_until, actor, created_at, removed_at';

export const takeSubscription = (db: Db, leaseMs: number): Promise<SubscriptionRow | null> =>
  takeHeld<SubscriptionRow>(db, 'subscriptions', columns, leaseMs);

/** Locks one that is still held under this fence; false when it is somebody else's by now, or removed. */
export const lockHeldSubscription = async (db: Db, { id, fence }: Held): Promise<boolean> =>
  (await queryOne(
    db,
    'select 1 as ok from subscriptions where id = $1 and fence = $2::bigint and removed_at is null for update',
    [id, fence],
  )) !== null;

export const setCursor = (db: Db, id: string, after: string): Promise<unknown> =>
  query(db, 'update subscriptions set after = $2::bigint where id = $1', [id, after]);

/** Lets it go; it is taken again when what waits is to be sent. */
export const settleSubscription = (
  db: Db,
  { id, fence }: Held,
  issue: Issue | null,
  againMs: number | null,
): Promise<unknown> =>
  query(
    db,
    `update subscriptions set lease_until = null, issue = $3,
       due_at = least(due_at, case when $4::float8 is null then null else now() + $4::float8 * interval '1 ms' end)
     where id = $1 and fence = $2::bigint`,
    [id, fence, issue === null ? null : json(issue), againMs],
  );

const types = (kind: keyof typeof toldTypes): string => toldTypes[kind].map((one) => `'${one}'`).join(', ');

/** Those that wait for news, and for which there may be some, become due; what people are told of their own after `ownMs`: many are. */
export const wakeSubscriptions = (db: Db, ownMs: number): Promise<unknown> =>
  query(
    db,
    `update subscriptions s set due_at = now() + case when person_id is null then 0 else $1::int end * interval '1 ms'
     where due_at is null and lease_until is null and removed_at is null and case
       when channel = 'code-host' then exists (
         select 1 from events e where e.project_id = s.project_id and e.number > s.after and e.type in (${types('host')}))
       when person_id is null then exists (select 1 from events e where e.number > s.after and e.type in (${types('alert')}))
       else exists (select 1 from events e where e.number > s.after and e.type in (${types('person')})) end`,
    [ownMs],
  );

/** States of a project's runs are told from now on, or no longer. */
export async function subscribeHost(db: Db, project: string, told: boolean, actor: string): Promise<void> {
  await query(
    db,
    `update subscriptions set removed_at = now(), due_at = null, fence = fence + 1 where project_id = $1 and channel = 'code-host' and removed_at is null`,
    [project],
  );
  if (told)
    await query(
      db,
      `insert into subscriptions (id, channel, project_id, after, actor)
       select $1, 'code-host', $2, coalesce(max(number), 0), $3 from events`,
      [newId(), project, actor],
    );
}

export interface NewSubscription {
  id: string;
  name: string | null;
  channel: 'webhook' | 'mail';
  topics: readonly string[];
  project: string | null;
  environment: string | null;
  person: string | null;
  target: string;
  sealed: Buffer | null;
  actor: string;
}

/** Of what happens from now on. Null when the name is taken; a person's own takes the place of the one before. */
export async function addSubscription(db: Db, one: NewSubscription): Promise<SubscriptionRow | null> {
  if (one.person !== null) await removeOwn(db, one.person);
  return queryOne(
    db,
    `insert into subscriptions (id, name, channel, topics, project_id, environment, person_id, target, sealed, actor, after)
     select $1, $2, $3, $4::text[], $5::uuid, $6, $7::uuid, $8, $9::bytea, $10, (select coalesce(max(number), 0) from events)
     on conflict do nothing returning ${columns}`,
    [
      one.id,
      one.name,
      one.channel,
      one.topics,
      one.project,
      one.environment,
      one.person,
      one.target,
      one.sealed,
      one.actor,
    ],
  );
}

export const listAlerts = (db: Db): Promise<SubscriptionRow[]> =>
  query(db, `select ${columns} from subscriptions where name is not null and removed_at is null order by name`);
export const findAlert = (db: Db, name: string): Promise<SubscriptionRow | null> =>
  queryOne(db, `select ${columns} from subscriptions where name = $1 and removed_at is null`, [name]);
export const ownAlert = (db: Db, person: string): Promise<SubscriptionRow | null> =>
  queryOne(db, `select ${columns} from subscriptions where person_id = $1 and removed_at is null`, [person]);
export const countAlerts = async (db: Db): Promise<number> => {
  const { Subscription: model, in: within } = tables(db);
  return model.count({ where: { removed_at: null }, ...within });
};

export const removeAlert = (db: Db, id: string): Promise<unknown> =>
  query(
    db,
    `with gone as (
       update subscriptions set removed_at = now(), due_at = null, fence = fence + 1, sealed = null where id = $1 and removed_at is null)
     update deliveries set state = 'given up', ended_at = now() where subscription_id = $1 and state = 'waiting'`,
    [id],
  );
export async function removeOwn(db: Db, person: string): Promise<void> {
  const row = await ownAlert(db, person);
  if (row) await removeAlert(db, row.id);
}
