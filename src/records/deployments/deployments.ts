/** Deployments: releases that are brought live, one after another in each environment. */
import { inOrder, lockedIds, noteLocks, rowLock } from '../locks.js';
import type { Lived } from '../../core/advance/back.js';
import type { PastDeployment } from '../../core/advance/environments.js';
import type { InferAttributes } from 'sequelize';
import type { Deployment, Override } from '../models/deployments/deployments.js';
import type { MadeOf } from '../../core/compare/compare.js';
import type { EnvironmentPlan } from '../../core/definition/model.js';
import type { Issue } from '../../core/errors/errors.js';
import type { SecretPlace } from '../../core/variables/resolve.js';
import { type DeploymentKind, deploymentMoving, type DeploymentState } from '../../core/states.js';
import { type Db, json, notify, now, query, queryOne, tables } from '../database.js';
import { newId } from '../ids.js';

const deploymentColumns = [
  'id',
  'project_id',
  'number',
  'environment_id',
  'release_id',
  'kind',
  'actor',
  'state',
  'state_since',
  'failure',
  'definition_commit',
  'environment_plan',
  'variables',
  'secrets',
  'replaces_id',
  'live_at',
  'replaced_at',
  'warm_until',
  'fresh',
  'turn',
  'override',
  'made_of',
  'split',
  'joint_id',
  'joint_number',
  'created_at',
  'ended_at',
  'back_id',
  'leaves_id',
  'restores_id',
  'undoes',
  'held_before',
] as const satisfies readonly (keyof InferAttributes<Deployment>)[];

export type DeploymentRow = Pick<InferAttributes<Deployment>, (typeof deploymentColumns)[number]>;

export interface NewDeployment {
  project: string;
  environment: string;
  release: string;
  kind: DeploymentKind;
  actor: string;
  definitionCommit: string | null;
  plan: EnvironmentPlan;
  variables: Record<string, string>;
  secrets: Record<string, SecretPlace>;
  override: Override | null;
  madeOf: MadeOf;
  split: number | null;
  /** Of a revert. */
  back: BackOf | null;
}

/** Where a revert comes from and goes to. */
export interface BackOf {
  /** Ids of the deployments that it leaves, brings back, and that a revert from it goes back to. */
  leaves: string | null;
  restores: string;
  back: string | null;
  undoes: boolean;
  heldBefore: { by: string; why: string } | null;
}

/** Adds one under the project's next number; its environment, locked already, looks what it has to do: what sleeps wakes for it. */
export async function addDeployment(db: Db, one: NewDeployment): Promise<DeploymentRow> {
  const row = await queryOne<DeploymentRow>(
    db,
    `with numbered as (update projects set deployments = deployments + 1 where id = $2::uuid returning deployments as number),
       woken as (update environments set due_at = now() where id = $3::uuid)
     insert into deployments (id, project_id, number, environment_id, release_id, kind, actor,
       definition_commit, environment_plan, variables, secrets, override, made_of, split, leaves_id, restores_id, back_id, undoes, held_before)
     select $1::uuid, $2::uuid, number, $3::uuid, $4::uuid, $5::text, $6::text,
       $7::text, $8::jsonb, $9::jsonb, $10::jsonb, $11::jsonb, $12::jsonb, $13::int, $14::uuid, $15::uuid, $16::uuid, $17::boolean, $18::jsonb from numbered
     returning ${deploymentColumns.join(', ')}`,
    [
      newId(),
      one.project,
      one.environment,
      one.release,
      one.kind,
      one.actor,
      one.definitionCommit,
      json(one.plan),
      json(one.variables),
      json(one.secrets),
      one.override === null ? null : json(one.override),
      json(one.madeOf),
      one.split,
      one.back?.leaves ?? null,
      one.back?.restores ?? null,
      one.back?.back ?? null,
      one.back?.undoes ?? false,
      one.back?.heldBefore ? json(one.back.heldBefore) : null,
    ],
  );
  if (!row) throw new Error(`no project ${one.project}`);
  await notify(db, 'deployments', 'environments');
  return row;
}

export async function deploymentById(db: Db, id: string): Promise<DeploymentRow | null> {
  const { Deployment, in: within } = tables(db);
  return Deployment.findByPk(id, { attributes: [...deploymentColumns], raw: true, ...within });
}

export async function lockDeployment(db: Db, id: string): Promise<DeploymentRow | null> {
  const { Deployment, in: within } = tables(db);
  return Deployment.findByPk(id, { attributes: [...deploymentColumns], lock: true, raw: true, ...within });
}

export async function findDeployment(db: Db, project: string, number: number): Promise<DeploymentRow | null> {
  const { Deployment, in: within } = tables(db);
  const where = { project_id: project, number };
  return Deployment.findOne({ attributes: [...deploymentColumns], where, raw: true, ...within });
}

/** The newest first. */
export type PastRow = DeploymentRow & { release: number; commit: string; gone: boolean };
export const deploymentsOf = (db: Db, environment: string, limit: number): Promise<PastRow[]> =>
  query(
    db,
    `select ${deploymentColumns.join(', ').replace(/(^|, )(\w+)/g, '$1d.$2')}, r.number as release, r.commit, r.gone_at is not null as gone
     from deployments d
       join releases r on r.id = d.release_id
     where d.environment_id = $1
     order by d.number desc limit $2`,
    [environment, limit],
  );

/** A past deployment without its definition, variables and rules: little enough for many to be read under a lock. */
export type BriefRow = Pick<
  DeploymentRow,
  'id' | 'number' | 'state' | 'release_id' | 'live_at' | 'created_at' | 'failure'
> & {
  release: number;
};

/** The newest first. */
export const briefDeploymentsOf = (db: Db, environment: string, limit: number): Promise<BriefRow[]> =>
  query(
    db,
    `select d.id, d.number, d.state, d.release_id, d.live_at, d.created_at, d.failure, r.number as release
     from deployments d join releases r on r.id = d.release_id
     where d.environment_id = $1 order by d.number desc limit $2`,
    [environment, limit],
  );

/** A deployment as the rules of what an environment takes and goes back to see it. */
export const asPast = (row: Pick<BriefRow, 'number' | 'release' | 'state' | 'live_at'>): PastDeployment => ({
  number: row.number,
  release: row.release,
  state: row.state,
  wasLive: row.live_at !== null,
});

/** A deployment that was live, as the way back sees it. */
export const asLived = (row: DeploymentRow & { release: number; gone: boolean }): Lived => ({
  id: row.id,
  number: row.number,
  release: row.release,
  variables: row.variables,
  back: row.back_id,
  liveAt: row.live_at?.getTime() ?? 0,
  gone: row.gone,
});

/** Of deployments of an environment those that are on their way, the oldest first. */
export const movingOf = <Row extends DeploymentRow>(newestFirst: readonly Row[]): Row[] =>
  newestFirst.filter((one) => deploymentMoving(one.state)).reverse();

export const movingDeployments = (db: Db, environment: string): Promise<DeploymentRow[]> =>
  query(
    db,
    `select ${deploymentColumns.join(', ')} from deployments
     where environment_id = $1
       and state in ('queued', 'preparing', 'starting', 'cutover', 'verifying')
     order by number`,
    [environment],
  );

/** Whether one of these stops the programs before it for its prepare. */
export const stopsPrograms = async (db: Db, deployments: readonly Pick<DeploymentRow, 'id'>[]): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 from deployments d join releases l on l.id = d.release_id
     where d.id = any($1::uuid[]) and l.plan->'prepare'->>'stops' = 'true' limit 1`,
    [deployments.map((one) => one.id)],
  )) !== null;

/** What changes with the state of a deployment. What is left out stays as it is. */
export interface WithState {
  /** The deployment whose place it takes. */
  replaces?: string | null;
  /** Some of the traffic is led to it from now on. */
  seen?: boolean;
  /** What a revert from it goes back to, of one that becomes live. */
  back?: string | null;
  /** Milliseconds until it is due again; null: only when something happens. */
  due?: number | null;
}

/** Gives the deployment as it is then. */
export async function setDeploymentState(
  db: Db,
  id: string,
  state: DeploymentState,
  failure: Issue | null,
  { replaces, seen = false, back, due }: WithState = {},
): Promise<DeploymentRow> {
  const row = await queryOne<DeploymentRow>(
    db,
    `update deployments set state = $2, failure = $3, state_since = case when state = $2 then state_since else now() end,
       live_at = case when $2 = 'live' then coalesce(live_at, now()) else live_at end,
       ended_at = case when $2 in ('live', 'failed', 'replaced') then coalesce(ended_at, now()) else ended_at end,
       replaces_id = case when $4::boolean then $5::uuid else replaces_id end,
       seen_at = case when $6::boolean then coalesce(seen_at, now()) else seen_at end,
       due_at = case when $7::boolean then now() + $8::float8 * interval '1 ms' else due_at end,
       back_id = case when $9::boolean then $10::uuid else back_id end
     where id = $1
     returning ${deploymentColumns.join(', ')}`,
    [
      id,
      state,
      failure === null ? null : json(failure),
      replaces !== undefined,
      replaces ?? null,
      seen,
      due !== undefined,
      due ?? null,
      back !== undefined,
      back ?? null,
    ],
  );
  if (!row) throw new Error(`no deployment ${id}`);
  await notify(db, `deployment:${id}`);
  return row;
}

/** Fails a deployment that is on its way, and stops what runs for it; it stays in its state until all is back as it was. */
export async function setFailure(db: Db, id: string, failure: Issue): Promise<void> {
  await stopAttemptsOf(db, id);
  await query(db, 'update deployments set failure = coalesce(failure, $2::jsonb) where id = $1', [id, json(failure)]);
  await notify(db, `deployment:${id}`, 'work');
}

/** The deployment that was live is so no longer; its servers stay warm until then. */
export async function retireDeployment(
  db: Db,
  id: string,
  state: 'replaced' | 'reverted',
  warmMs: number,
): Promise<void> {
  await query(
    db,
    `update deployments
     set state = $2, replaced_at = now(), warm_until = now() + $3::float8 * interval '1 ms',
       due_at = now() + $3::float8 * interval '1 ms'
     where id = $1`,
    [id, state, warmMs],
  );
  await notify(db, 'deployments');
}

/** Deployments of a condition look again. Returns how many there are. */
export async function makeDeploymentsDue(db: Db, where: string, bind: unknown[]): Promise<number> {
  const rows = await query<{ id: string }>(
    db,
    `update deployments set due_at = now() where id in (${lockedIds('deployments', where)}) returning id`,
    bind,
  );
  noteLocks(db, 'deployments', inOrder(rows));
  return rows.length;
}

/** Puts a deployment on the work list, and whatever is on its way in the same environment: it may wait for an end there. */
export async function wakeDeployments(db: Db, id: string): Promise<void> {
  await makeDeploymentsDue(
    db,
    `id = $1 or (environment_id = (select environment_id from deployments where id = $1)
       and state in ('queued', 'preparing', 'starting', 'cutover', 'verifying'))`,
    [id],
  );
  await notify(db, 'deployments');
}

/** Locks these deployments in the order of their ids, as everyone does; gives them in that order, as they are then. */
export async function lockDeployments(db: Db, ids: readonly string[]): Promise<DeploymentRow[]> {
  const rows = await query<DeploymentRow>(
    db,
    `select ${deploymentColumns.join(', ')} from deployments where id in (select unnest($1::uuid[])) order by id ${rowLock}`,
    [ids],
  );
  noteLocks(db, 'deployments', rows);
  return rows;
}

/** What a deployment brings: its release, and that release's commit. */
export const releasedBy = (
  db: Db,
  deployment: string,
): Promise<{ number: number; release_id: string; project_id: string; commit: string } | null> =>
  queryOne(
    db,
    `select d.number, d.release_id, r.project_id, r.commit
     from deployments d join releases r on r.id = d.release_id
     where d.id = $1`,
    [deployment],
  );

/** Whether a release was ever live in the environment of this name. */
export const wasLive = async (db: Db, project: string, environment: string, release: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok
     from deployments d join environments e on e.id = d.environment_id
     where e.project_id = $1 and e.name = $2 and d.release_id = $3 and d.live_at is not null
     limit 1`,
    [project, environment, release],
  )) !== null;

/** What is to be known of a deployment before its warm servers are taken over. */
export type WarmRow = Pick<DeploymentRow, 'id' | 'secrets' | 'variables'>;

/** The last deployment of this release here whose servers are warm, other than `but`. */
export const warmDeployment = (
  db: Db,
  environment: string,
  release: string,
  but: string | null,
  /** Preferred, where its servers are warm: the one that is brought back. */
  best: string | null = null,
): Promise<WarmRow | null> =>
  queryOne(
    db,
    `select id, secrets, variables from deployments
     where environment_id = $1 and release_id = $2 and ($3::uuid is null or id <> $3)
       and state in ('replaced', 'reverted') and warm_until > now()
     order by (id = $4::uuid) desc nulls last, number desc
     limit 1`,
    [environment, release, but, best],
  );

/** Reverts of an environment, the newest first. */
export const revertsOf = async (db: Db, environment: string): Promise<{ number: number; leaves: string | null }[]> =>
  query(
    db,
    `select number, leaves_id as leaves from deployments where environment_id = $1 and kind = 'revert' order by number desc limit 50`,
    [environment],
  );

/** The newest revert that leaves a deployment. */
export const revertFrom = (
  db: Db,
  deployment: string,
): Promise<{ id: string; number: number; state: DeploymentState } | null> =>
  queryOne(
    db,
    `select r.id, r.number, r.state from deployments d join deployments r on r.environment_id = d.environment_id
       and r.kind = 'revert' and r.leaves_id = d.id
     where d.id = $1 order by r.number desc limit 1`,
    [deployment],
  );

/** What is live is so no longer; nothing takes its place. */
export async function endLive(db: Db, id: string): Promise<void> {
  const { Deployment, in: within } = tables(db);
  await Deployment.update(
    { state: 'replaced', replaced_at: now(), due_at: null },
    { where: { id, state: 'live' }, ...within },
  );
}

/** Its prepare or verify is told to stop. */
export async function stopAttemptsOf(db: Db, deployment: string): Promise<void> {
  const { Attempt, in: within } = tables(db);
  await Attempt.update(
    { stop: true },
    { where: { deployment_id: deployment, state: ['waiting', 'running'] }, ...within },
  );
}

/** Programs of these parts are to be replaced by fresh ones, started with the logins of `turn`. Gives the deployment as it is then. */
export async function freshenParts(
  db: Db,
  { id, turn: before }: Pick<DeploymentRow, 'id' | 'turn'>,
  parts: readonly string[],
  turn = before,
): Promise<DeploymentRow> {
  const row = await queryOne<DeploymentRow>(
    db,
    `update deployments set turn = $3, due_at = now(),
       fresh = fresh || (select coalesce(jsonb_object_agg(part, coalesce((fresh->>part)::int, 0) + 1), '{}') from unnest($2::text[]) part)
     where id = $1 returning ${deploymentColumns.join(', ')}`,
    [id, parts, turn],
  );
  await notify(db, 'deployments');
  return row as DeploymentRow;
}

/** Ends the warmth of all that an environment had before. */
export async function coolAll(db: Db, environment: string): Promise<void> {
  await query(
    db,
    'update deployments set warm_until = now(), due_at = now() where environment_id = $1 and warm_until > now()',
    [environment],
  );
  await notify(db, 'deployments');
}

/** Where a release is and was brought, the newest first. */
export const deploymentsOfRelease = (
  db: Db,
  release: string,
  limit: number,
): Promise<(DeploymentRow & { environment: string })[]> =>
  query(
    db,
    `select ${deploymentColumns.map((name) => `d.${name}`).join(', ')}, e.name as environment
     from deployments d join environments e on e.id = d.environment_id
     where d.release_id = $1 order by d.number desc limit $2`,
    [release, limit],
  );

/** Some of the traffic is led to it from now on. */
export const markSeen = (db: Db, id: string): Promise<unknown> =>
  query(db, 'update deployments set seen_at = now() where id = $1 and seen_at is null', [id]);

/** Whether it is in good health; since when it is not is kept. */
export const markHealth = (db: Db, id: string, good: boolean): Promise<unknown> =>
  query(
    db,
    'update deployments set poor_at = case when $2 then null else coalesce(poor_at, now()) end where id = $1 and (poor_at is null) <> $2',
    [id, good],
  );
