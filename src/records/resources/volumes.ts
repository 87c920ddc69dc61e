/** Volumes: which agent has them, how full they are, and who uses them. */
import type { InferAttributes } from 'sequelize';
import { type VolumeHappening, volumeNext } from '../../core/advance/chores.js';
import type { BackupState, VolumeHold } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import type { Volume } from '../models/resources/volumes.js';

export type VolumeRow = InferAttributes<Volume> & {
  agent: string;
  /** Whether its agent gives signs of life. */
  alive: boolean;
};

const columns =
  'v.id, v.resource_id, v.agent_id, v.state, v.hold, v.size::text as size, v.used::text as used, v.closed, v.seen_at, v.created_at, v.ended_at, a.name as agent, a.lease_until > now() as alive';
const from = 'volumes v join agents a on a.id = v.agent_id';

/** All that are not removed: the one that programs use first. */
export const volumesOf = (db: Db, resource: string): Promise<VolumeRow[]> =>
  query(
    db,
    `select ${columns} from ${from} where v.resource_id = $1 and v.state <> 'removed'
     order by v.state <> 'there', v.created_at desc`,
    [resource],
  );

export const volumeById = (db: Db, id: string): Promise<VolumeRow | null> =>
  queryOne(db, `select ${columns} from ${from} where v.id = $1`, [id]);

export const lockVolume = (db: Db, id: string): Promise<VolumeRow | null> =>
  queryOne(db, `select ${columns} from ${from} where v.id = $1 for update of v`, [id]);

/** One that is to be made on an agent; there already is one where it was asked for before. */
export async function addVolume(db: Db, resource: string, agent: string): Promise<string> {
  await query(db, `insert into volumes (id, resource_id, agent_id) values ($1, $2, $3) on conflict do nothing`, [
    newId(),
    resource,
    agent,
  ]);
  const row = await queryOne<{ id: string }>(db, `select id from volumes where resource_id = $1 and state = 'making'`, [
    resource,
  ]);
  return (row as { id: string }).id;
}

/** Changes what a locked one is; false where this changes nothing. */
export async function moveVolume(
  db: Db,
  { id, state }: Pick<VolumeRow, 'id' | 'state'>,
  happens: VolumeHappening,
): Promise<boolean> {
  const next = volumeNext(state, happens);
  if (!next) return false;
  await query(db, `update volumes set state = $2, ended_at = case when $2 = 'removed' then now() end where id = $1`, [
    id,
    next,
  ]);
  return true;
}

/** Agents that have the other volumes of an environment. */
export const agentsOfOthers = async (db: Db, environment: string, resource: string): Promise<string[]> =>
  (
    await query<{ agent_id: string }>(
      db,
      `select distinct v.agent_id from volumes v join resources r on r.id = v.resource_id
       where r.environment_id = $1 and r.id <> $2 and v.state in ('making', 'there') and r.state <> 'removed'`,
      [environment, resource],
    )
  ).map((row) => row.agent_id);

export interface SeenVolume {
  id: string;
  hold: VolumeHold;
  size: number;
  used: number;
}

/** How full those of an agent are, as it says; gives the resources whose files it has not any more. */
export async function seeVolumes(db: Db, agent: string, seen: readonly SeenVolume[]): Promise<string[]> {
  const rows = await query<{ resource_id: string }>(
    db,
    `with told as (
       select * from jsonb_to_recordset($2::jsonb) as t(id uuid, hold text, size bigint, used bigint)
     ), seen as (
       update volumes v set hold = t.hold, size = t.size, used = t.used, seen_at = now() from told t
       where v.id = t.id and v.agent_id = $1 and v.state in ('there', 'left') returning v.id, v.resource_id, v.used, v.state
     ), shown as (
       update resources r set bytes = s.used, looked_at = now() from seen s where r.id = s.resource_id and s.state = 'there' returning 1
     )
     select v.resource_id from volumes v join resources r on r.id = v.resource_id
     where v.agent_id = $1 and v.state = 'there' and r.state = 'ready' and r.issue is null and v.seen_at is not null and not exists (select 1 from told t where t.id = v.id)`,
    [agent, json(seen)],
  );
  return rows.map((row) => row.resource_id);
}

/** Whether programs may begin to use what a resource has. */
export async function closeVolumes(db: Db, resource: string, closed: boolean): Promise<void> {
  await query(db, `update volumes set closed = $2 where resource_id = $1 and closed <> $2 and state <> 'removed'`, [
    resource,
    closed,
  ]);
  if (!closed) await notify(db, 'work');
}

/** Whether what visitors of an environment are led to has servers that use one of its resources. */
export const servesFrom = async (db: Db, environment: string, resource: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 from environments e join deployments d on d.id = e.serving_id join releases l on l.id = d.release_id
     where e.id = $1 and exists (
       select 1 from jsonb_each(l.plan->'parts') p where p.value->>'kind' = 'server' and p.value->'volumes' ? $2)`,
    [environment, resource],
  )) !== null;

/** Whether files that programs of an environment use are closed to them just now; those that go, or were left, hold nobody up. */
export const someClosed = async (db: Db, environment: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 from volumes v join resources r on r.id = v.resource_id where r.environment_id = $1 and v.closed and v.state in ('making', 'there') limit 1`,
    [environment],
  )) !== null;

/** Programs that use a resource of an environment are told to end, with jobs and people's terminals; gives how many have not ended. */
export async function endUsers(db: Db, environment: string, resource: string): Promise<number> {
  const uses = (part: string) => `l.plan->'parts'->(${part})->'volumes' ? $2`;
  const within = 'join deployments d on d.id = x.deployment_id join releases l on l.id = d.release_id';
  const bind = [environment, resource];
  const ids = async (table: string, part: string, states: string) =>
    (
      await query<{ id: string }>(
        db,
        `select x.id from ${table} x ${within} join agents g on g.id = x.agent_id
         where d.environment_id = $1 and x.state in (${states}) and ${uses(part)} and g.lease_until > now()`,
        bind,
      )
    ).map((row) => row.id);
  await query(
    db,
    `update instances i set wanted = false from deployments d, releases l
     where d.id = i.deployment_id and l.id = d.release_id and d.environment_id = $1 and i.wanted and i.state in ('starting', 'ready', 'frozen')
       and ${uses('i.part')}`,
    bind,
  );
  const instances = await ids('instances', 'x.part', `'starting', 'ready', 'frozen'`);
  const attempts = await ids('attempts', 'part_of_attempt(x.kind, x.part, x.deployment_id)', `'running'`);
  const terminals = await ids('terminals', 'x.part', `'given', 'open'`);
  await query(db, 'update attempts set stop = true where id = any($1::uuid[])', [attempts]);
  await query(db, 'update terminals set stop = true where id = any($1::uuid[])', [terminals]);
  await notify(db, 'work');
  await notify(db, 'terminals');
  return instances.length + attempts.length + terminals.length;
}

/** Those that something is to be done about though nobody waits for it: with nothing open on them. */
export const idleVolumes = (db: Db): Promise<(VolumeRow & { backup: BackupState | null })[]> =>
  query(
    db,
    `select ${columns}, (select b.state from backups b where b.volume_id = v.id order by b.number desc limit 1) as backup
     from ${from} join resources r on r.id = v.resource_id
     where (v.state in ('left', 'removing') and a.lease_until > now() or v.state = 'making' and r.state not in ('asked', 'making'))
       and not exists (select 1 from chores c where c.volume_id = v.id and (c.state in ('asked', 'given') or c.state = 'failed' and c.ended_at > now() - interval '1 minute'))
     limit 100`,
  );

/** Where the volumes of a deployment's parts are. */
export const volumePlaces = (
  db: Db,
  deployment: string,
): Promise<{ part: string; name: string; agent: string; alive: boolean }[]> =>
  query(
    db,
    `select p.key as part, r.name, a.name as agent, a.lease_until > now() as alive
     from deployments d join releases l on l.id = d.release_id cross join lateral jsonb_each(l.plan->'parts') p
       cross join lateral jsonb_array_elements_text(coalesce(p.value->'volumes', '[]')) as named(name)
       join resources r on r.environment_id = d.environment_id and r.name = named.name and r.state <> 'removed'
       join volumes v on v.resource_id = r.id and v.state = 'there' join agents a on a.id = v.agent_id
     where d.id = $1 order by 1, 2`,
    [deployment],
  );
