/** Where logs go on to, and how far of each stream that is. One destination is sent to by one at a time, under a fence. */
import type { InferAttributes } from 'sequelize';
import type { DestinationStep } from '../../core/advance/destinations.js';
import type { DestinationKind } from '../../core/states.js';
import { type Db, json, query, queryOne } from '../database.js';
import { type Held, takeHeld } from '../held.js';
import type { Destination } from '../models/deliveries/destinations.js';

export type DestinationRow = InferAttributes<Destination>;

const columns =
  'id, name, kind, url, authorities, sealed, project_id, environment, issue, tries, sent_lines::text as sent_lines, left_bytes::text as left_bytes, sent_at, fence::text as fence, due_at, lease_until, actor, created_at, removed_at';

export const takeDestination = (db: Db, leaseMs: number): Promise<DestinationRow | null> =>
  takeHeld<DestinationRow>(db, 'destinations', columns, leaseMs);

export interface NewDestination {
  id: string;
  name: string;
  kind: DestinationKind;
  url: string;
  authorities: string | null;
  sealed: Buffer | null;
  project: string | null;
  environment: string | null;
  actor: string;
}

/** Days after whose end nothing of an instance is sent any more. */
const lateDays = 40;
const wanted = `(i.ended_at is null or i.ended_at > now() - interval '${lateDays} days')`;

/** For what is printed from now on. Null when the name is taken. */
export async function addDestination(db: Db, one: NewDestination): Promise<DestinationRow | null> {
  const row = await queryOne<DestinationRow>(
    db,
    `insert into destinations (id, name, kind, url, authorities, sealed, project_id, environment, actor)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict do nothing returning ${columns}`,
    [one.id, one.name, one.kind, one.url, one.authorities, one.sealed, one.project, one.environment, one.actor],
  );
  if (row)
    await query(
      db,
      `insert into sent_logs (destination_id, stream, position)
       select $1, i.id, i.log_bytes from instances i where ${wanted} and i.log_bytes > 0`,
      [row.id],
    );
  return row;
}

export const listDestinations = (db: Db): Promise<DestinationRow[]> =>
  query(db, `select ${columns} from destinations where removed_at is null order by name`);
export const findDestination = (db: Db, name: string): Promise<DestinationRow | null> =>
  queryOne(db, `select ${columns} from destinations where name = $1 and removed_at is null`, [name]);

export const removeDestination = (db: Db, id: string): Promise<unknown> =>
  query(
    db,
    `with gone as (
       update destinations set removed_at = now(), due_at = null, lease_until = null, fence = fence + 1, sealed = null where id = $1)
     delete from sent_logs where destination_id = $1`,
    [id],
  );

export interface Unsent {
  stream: string;
  part: string;
  position: number;
  project: string;
  environment: string;
  host: string;
  release: number;
  /** Bytes of the stream that are sent, that there are, and before which nothing is kept. */
  sent: number;
  bytes: number;
  from: number;
  gone: boolean;
  ended: boolean;
}

/** Streams of which there is more than was sent; those of which most is first, so that a line without an end holds nothing up. */
export const unsentStreams = (
  db: Db,
  { id, project_id, environment }: Pick<DestinationRow, 'id' | 'project_id' | 'environment'>,
  limit: number,
): Promise<Unsent[]> =>
  query(
    db,
    `select i.id as stream, i.part, i.position, p.name as project, e.name as environment, e.host, r.number as release,
       coalesce(s.position, 0)::float8 as sent, i.log_bytes::float8 as bytes, i.log_from::float8 as "from", i.log_gone as gone,
       i.ended_at is not null as ended
     from instances i
     join deployments d on d.id = i.deployment_id
     join environments e on e.id = d.environment_id
     join projects p on p.id = e.project_id
     join releases r on r.id = d.release_id
     left join sent_logs s on s.destination_id = $1 and s.stream = i.id
     where i.log_bytes > coalesce(s.position, 0) and ${wanted}
       and ($2::uuid is null or p.id = $2) and ($3::text is null or e.name = $3)
     order by i.log_bytes - coalesce(s.position, 0) desc limit $4`,
    [id, project_id, environment, limit],
  );

/** Locks one that is still held under this fence; false when it is somebody else's by now, or removed. */
export const lockHeldDestination = async (db: Db, { id, fence }: Held): Promise<boolean> =>
  (await queryOne(
    db,
    'select 1 as ok from destinations where id = $1 and fence = $2::bigint and removed_at is null for update',
    [id, fence],
  )) !== null;

export const setSent = (
  db: Db,
  id: string,
  positions: readonly { stream: string; position: number }[],
): Promise<unknown> =>
  query(
    db,
    `insert into sent_logs (destination_id, stream, position)
     select $1, p.stream, p.position from jsonb_to_recordset($2::jsonb) as p(stream uuid, position bigint)
     on conflict (destination_id, stream) do update set position = excluded.position, sent_at = now()`,
    [id, json(positions)],
  );

export const settleDestination = (
  db: Db,
  { id, fence }: Held,
  step: DestinationStep,
  counts: { lines: number; leftBytes: number },
): Promise<unknown> =>
  query(
    db,
    `update destinations set lease_until = null, due_at = now() + $3::float8 * interval '1 ms', issue = $4, tries = $5,
       sent_lines = sent_lines + $6::bigint, left_bytes = left_bytes + $7::bigint,
       sent_at = case when $6::bigint > 0 then now() else sent_at end
     where id = $1 and fence = $2::bigint`,
    [
      id,
      fence,
      step.againMs,
      step.issue === null ? null : json(step.issue),
      step.tries,
      counts.lines,
      counts.leftBytes,
    ],
  );

/** Of streams that nothing is sent of any more. */
export const forgetSent = (db: Db): Promise<unknown> =>
  query(
    db,
    `delete from sent_logs s using instances i where i.id = s.stream and i.ended_at < now() - interval '${lateDays + 1} days'`,
  );
