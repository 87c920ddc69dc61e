import { CodedError, type Issue } from '../../core/errors/errors.js';
import type { Room, Waiting } from '../../core/placement/place.js';
import type { InstanceState } from '../../core/states.js';
import { json, type Db, notify, queryOne, query } from '../database.js';
import { newId } from '../ids.js';

export interface InstanceRow {
  id: string;
  deployment_id: string;
  /** The deployment for which it was started; a revert takes warm ones over. */
  started_for: string;
  part: string;
  kind: 'server' | 'worker';
  position: number;
  state: InstanceState;
  wanted: boolean;
  restarts: number;
  agent_id: string | null;
  fence: string | null;
  address: string | null;
  port: number | null;
  exit: number | null;
  issue: Issue | null;
  log_bytes: number;
  /** As of which wish for fresh programs it was started, and with which logins. */
  fresh: number;
  turn: number;
  /** Bytes with which it is reckoned where it runs. */
  memory: number;
  /** It shall stand still. */
  still: boolean;
  created_at: Date;
  ready_at: Date | null;
  ended_at: Date | null;
}

const columns =
  'id, deployment_id, started_for, part, kind, position, state, wanted, restarts, agent_id, fence, address, port, exit, issue, log_bytes::float8 as log_bytes, fresh, turn, memory::float8 as memory, still, created_at, ready_at, ended_at';
const withTable = columns.replace(/(^|, )(\w+)/g, '$1i.$2');

export async function addInstance(
  db: Db,
  instance: {
    deployment: string;
    part: string;
    kind: 'server' | 'worker';
    position: number;
    restarts: number;
    delayMs: number;
    /** Bytes with which it is reckoned where it runs. */
    memory: number;
  },
): Promise<void> {
  await query(
    db,
    `insert into instances (id, deployment_id, started_for, part, kind, position, restarts, start_at, fresh, turn, memory)
     select $1, id, id, $3, $4, $5, $6, now() + $7::int * interval '1 ms', coalesce((fresh->>$3)::int, 0), turn, $8::bigint
     from deployments where id = $2`,
    [
      newId(),
      instance.deployment,
      instance.part,
      instance.kind,
      instance.position,
      instance.restarts,
      instance.delayMs,
      instance.memory,
    ],
  );
  await notify(db, 'work');
}

export const instancesOf = (db: Db, deployment: string): Promise<InstanceRow[]> =>
  query(db, `select ${columns} from instances where deployment_id = $1 order by id`, [deployment]);
/** Those that have not ended, and the newest that have. */
export const instancesOfEnvironment = (db: Db, environment: string): Promise<InstanceRow[]> =>
  query(
    db,
    `select ${withTable} from instances i
       join deployments d on d.id = i.deployment_id
     where d.environment_id = $1
     order by i.id desc limit 200`,
    [environment],
  );
/** Those of a deployment that shall run stand still from now on, or go on. Gives how many are told so anew. */
export async function freezeAll(db: Db, deployment: string, freeze: boolean): Promise<number> {
  const rows = await query(
    db,
    `update instances set still = $2 where deployment_id = $1 and wanted and still <> $2
       and state in ('ready', 'frozen') returning 1`,
    [deployment, freeze],
  );
  if (rows.length) await notify(db, 'stand');
  return rows.length;
}

export const instanceById = (db: Db, id: string): Promise<InstanceRow | null> =>
  queryOne(db, `select ${columns} from instances where id = $1`, [id]);

/** One at a time says where instances go. */
export const lockPlaces = (db: Db): Promise<unknown> => query(db, 'select pg_advisory_xact_lock(7403131)');

/** Those that wait and may start now, in the order in which they wait. */
export const waitingInstances = (db: Db, most: number): Promise<Waiting[]> =>
  query(
    db,
    `select id, deployment_id || ' ' || part || ' ' || fresh as of, memory::float8 as memory, volumes_hold(deployment_id, part) as only from instances
     where state = 'waiting' and wanted and start_at <= now() order by start_at, id limit $1`,
    [most],
  );

/** Agents that take what is live and are there, with what they have. */
export const roomsNow = (db: Db): Promise<Room[]> =>
  query(
    db,
    `select a.id, a.name, a.memory::float8 as memory, a.places,
       coalesce(sum(i.n * i.memory), 0)::float8 as taken,
       coalesce(jsonb_object_agg(i.of, i.n) filter (where i.of is not null), '{}') as has
     from agents a left join (
       select agent_id, deployment_id || ' ' || part || ' ' || fresh as of, count(*) as n, avg(memory) as memory from instances
       where state in ('starting', 'ready', 'frozen') group by 1, 2) i on i.agent_id = a.id
     where 'live' = any(a.takes) and a.lease_until > now()
     group by a.id order by a.name`,
  );

/** Claims these for an agent of the class `live`, as far as they still wait. */
export const claimInstances = (
  db: Db,
  agent: { id: string; address: string },
  ids: readonly string[],
): Promise<InstanceRow[]> =>
  query(
    db,
    `update instances i set state = 'starting', agent_id = $1, address = $2, fence = nextval('fences')
     from (select id from instances where id = any($3::uuid[]) and state = 'waiting' and wanted for update skip locked) w where i.id = w.id returning ${withTable}`,
    [agent.id, agent.address, ids],
  );

/** Whether an instance waits for an agent that has room. */
export const anyWaits = async (db: Db): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from instances where state = 'waiting' and wanted and start_at <= now() limit 1`,
  )) !== null;

/** Milliseconds until the next instance may start, or null. */
export const nextStart = async (db: Db): Promise<number | null> =>
  (
    await queryOne<{ ms: number | null }>(
      db,
      `select (extract(epoch from min(start_at) - now()) * 1000)::float8 as ms
       from instances
       where state = 'waiting'
         and wanted`,
    )
  )?.ms ?? null;

export const heldInstances = (db: Db, agent: string): Promise<InstanceRow[]> =>
  query(db, `select ${columns} from instances where agent_id = $1 and state in ('starting', 'ready', 'frozen')`, [
    agent,
  ]);

export async function lockHeldInstance(db: Db, id: string, agent: string, fence: string): Promise<InstanceRow> {
  const row = await queryOne<InstanceRow>(
    db,
    `select ${columns} from instances where id = $1 and agent_id = $2 and fence = $3 for update`,
    [id, agent, fence],
  );
  if (!row) throw new CodedError('fence_old');
  return row;
}

export async function setInstanceState(
  db: Db,
  id: string,
  state: InstanceState,
  change: { port?: number | null; exit?: number | null; issue?: Issue | null } = {},
): Promise<void> {
  await query(
    db,
    `update instances set state = $2, port = coalesce($3, port), exit = coalesce($4, exit), issue = coalesce($5::jsonb, issue),
       ready_at = case when $2 = 'ready' then coalesce(ready_at, now()) else ready_at end, still = still and $2 in ('ready', 'frozen'), ended_at = case when $2 in ('failed', 'ended', 'lost') then now() end where id = $1`,
    [id, state, change.port ?? null, change.exit ?? null, change.issue ? json(change.issue) : null],
  );
  await notify(db, `log:${id}`);
}

/** Tells instances to end. Those that no agent has taken yet end at once. */
export async function unwant(db: Db, deployment: string, kind: 'server' | 'worker' | null): Promise<number> {
  const rows = await query(
    db,
    `update instances set wanted = false, state = case when state = 'waiting' then 'ended' else state end, ended_at = case when state = 'waiting' then now() else ended_at end
     where deployment_id = $1 and wanted and ($2::text is null or kind = $2) returning 1`,
    [deployment, kind],
  );
  if (rows.length) await notify(db, 'work');
  return rows.length;
}

/** Gives the warm servers of an earlier deployment to a revert; returns how many. */
export async function adoptWarm(db: Db, from: string, to: string): Promise<number> {
  const rows = await query(
    db,
    `update instances set deployment_id = $2, fresh = 0
     where deployment_id = $1
       and kind = 'server'
       and wanted
       and state = 'ready'
     returning 1`,
    [from, to],
  );
  return rows.length;
}

/** Instances of agents whose lease ran out `marginMs` ago or more. */
export const strayInstances = (db: Db, marginMs: number): Promise<InstanceRow[]> =>
  query(
    db,
    `select ${withTable} from instances i
       join agents a on a.id = i.agent_id
     where i.state in ('starting', 'ready', 'frozen')
       and a.lease_until < now() - $1::int * interval '1 ms'
     limit 200`,
    [marginMs],
  );

/** A ready instance that was counted lost, and whose agent is back. */
export const forgetAgent = (db: Db, id: string): Promise<unknown> =>
  query(db, `update instances set state = 'lost', ended_at = now(), fence = nextval('fences') where id = $1`, [id]);

/** One that is wanted no longer; one that no agent has taken yet ends at once. */
export async function unwantOne(db: Db, id: string): Promise<void> {
  await query(
    db,
    `update instances set wanted = false, state = case when state = 'waiting' then 'ended' else state end,
       ended_at = case when state = 'waiting' then now() else ended_at end
     where id = $1`,
    [id],
  );
  await notify(db, 'work');
}

/** Locks an instance whose agent has been silent for longer than its lease and `marginMs`; false when it is not so any more. */
export const lockSilent = async (
  db: Db,
  { id, fence }: Pick<InstanceRow, 'id' | 'fence'>,
  marginMs: number,
): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok
     from instances i join agents a on a.id = i.agent_id
     where i.id = $1 and i.state in ('starting', 'ready', 'frozen') and i.fence = $2
       and a.lease_until < now() - $3::int * interval '1 ms'
     for update of i`,
    [id, fence, marginMs],
  )) !== null;

/** The project of an instance, or null where there is no such instance. */
export const projectOfInstance = async (db: Db, id: string): Promise<string | null> =>
  (
    await queryOne<{ project_id: string }>(
      db,
      'select d.project_id from instances i join deployments d on d.id = i.deployment_id where i.id = $1',
      [id],
    )
  )?.project_id ?? null;
