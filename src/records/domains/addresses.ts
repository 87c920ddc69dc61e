/** Names under which environments are reached: taken by whoever works on one under a fence, written back only by that one. */
import type { InferAttributes } from 'sequelize';
import type { AddressStep } from '../../core/advance/addresses.js';
import type { AddressKind } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { type Held, takeHeld } from '../held.js';
import { newId } from '../ids.js';
import type { Address } from '../models/domains/addresses.js';

export type AddressRow = InferAttributes<Address>;

const columns =
  'id, environment_id, host, kind, declared, actor, state, state_since, issue, tries, fence::text as fence, due_at, lease_until, certificate_id, created_at, removed_at';

/** Those that are there: what the service has given first, then as they were asked for. */
export const addressesOf = (db: Db, environment: string): Promise<AddressRow[]> =>
  query(
    db,
    `select ${columns} from addresses where environment_id = $1 and removed_at is null order by kind = 'own', created_at, host`,
    [environment],
  );

export const findAddress = (db: Db, environment: string, host: string): Promise<AddressRow | null> =>
  queryOne(db, `select ${columns} from addresses where environment_id = $1 and host = $2 and removed_at is null`, [
    environment,
    host,
  ]);

/** The one of this name that is answered, wherever it is. */
export const answeredAddress = (db: Db, host: string): Promise<AddressRow | null> =>
  queryOne(
    db,
    `select ${columns} from addresses where host = $1 and removed_at is null and state in ('proven', 'certified')`,
    [host],
  );

export interface NewAddress {
  environment: string;
  host: string;
  kind: AddressKind;
  declared: boolean;
  actor: string;
}

/** Adds one; null when it is there. What the service gives is proven. */
export async function addAddress(
  db: Db,
  { environment, host, kind, declared, actor }: NewAddress,
): Promise<AddressRow | null> {
  const row = await queryOne<AddressRow>(
    db,
    `insert into addresses (id, environment_id, host, kind, declared, actor, state) values ($1, $2, $3, $4, $5, $6, $7)
     on conflict do nothing returning ${columns}`,
    [newId(), environment, host, kind, declared, actor, kind === 'given' ? 'proven' : 'wanted'],
  );
  if (row) await notify(db, 'addresses');
  return row;
}

export const declareAddress = (db: Db, id: string, declared: boolean): Promise<unknown> =>
  query(db, 'update addresses set declared = $2 where id = $1', [id, declared]);

/** They are there no longer; whoever works on one has lost it. */
export const removeAddresses = (db: Db, ids: readonly string[]): Promise<unknown> =>
  query(
    db,
    `update addresses set removed_at = now(), due_at = null, lease_until = null, fence = fence + 1, certificate_id = null
     where id = any($1::uuid[]) and removed_at is null`,
    [ids],
  );

export const takeAddress = (db: Db, leaseMs: number): Promise<AddressRow | null> =>
  takeHeld<AddressRow>(db, 'addresses', columns, leaseMs);

/** Locks one that is still held under this fence; null when it is somebody else's by now. */
export const lockHeldAddress = (db: Db, { id, fence }: Held): Promise<AddressRow | null> =>
  queryOne(
    db,
    `select ${columns} from addresses where id = $1 and fence = $2::bigint and removed_at is null for update`,
    [id, fence],
  );

/** Records what came of it, and lets it go; false when it is somebody else's by now. Who has woken it meanwhile is heard. */
export async function settleAddress(
  db: Db,
  { id, fence }: Held,
  { state, issue, tries, againMs }: AddressStep,
  certificate: string | null,
): Promise<boolean> {
  const done = await queryOne(
    db,
    `update addresses set state = $3, issue = $4, tries = $5, lease_until = null,
       state_since = case when state = $3 then state_since else now() end,
       certificate_id = coalesce($7, certificate_id),
       due_at = least(due_at, case when $6::float8 is null then null else now() + $6::float8 * interval '1 ms' end)
     where id = $1 and fence = $2::bigint and removed_at is null returning 1 as ok`,
    [id, fence, state, issue === null ? null : json(issue), tries, againMs, certificate],
  );
  if (done) await notify(db, 'addresses');
  return done !== null;
}

/** It is looked at now: one that failed, or lost its name to another, begins again. */
export async function wakeAddress(db: Db, id: string, again: boolean): Promise<void> {
  await query(
    db,
    `update addresses set due_at = now(), tries = 0,
       state = case when $2 and kind = 'own' then 'wanted' when $2 then 'proven' else state end,
       state_since = case when $2 then now() else state_since end,
       issue = null
     where id = $1 and removed_at is null`,
    [id, again],
  );
  await notify(db, 'addresses');
}

/** All that are answered are looked at again: there may be another certificate for them now. */
export const wakeAnswered = async (db: Db): Promise<void> => {
  const rows = await query(
    db,
    `update addresses set due_at = now() where removed_at is null and state in ('proven', 'certified') returning 1`,
  );
  if (rows.length) await notify(db, 'addresses');
};

/** Environment → the first name of its own that has a certificate which everyone trusts: not that of the service's own authority. */
export const mainAddresses = async (db: Db, environments: readonly string[]): Promise<Map<string, string>> => {
  const rows = await query<{ environment_id: string; host: string }>(
    db,
    `select distinct on (a.environment_id) a.environment_id, a.host from addresses a join certificates c on c.id = a.certificate_id
     where a.environment_id = any($1::uuid[]) and a.removed_at is null and a.kind = 'own' and a.state = 'certified' and c.source <> 'local'
     order by a.environment_id, a.created_at, a.host`,
    [environments],
  );
  return new Map(rows.map((row) => [row.environment_id, row.host]));
};
