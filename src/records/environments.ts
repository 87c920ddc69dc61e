import { addressLabel } from '../core/addresses.js';
import type { EnvironmentPlan } from '../core/definition/model.js';
import type { Issue } from '../core/errors/errors.js';
import type { SecretPlace } from '../core/variables/resolve.js';
import type { DeploymentKind, DeploymentState, EnvironmentState, Health } from '../core/states.js';
import { json, type Db, notify } from './database.js';
import { recordEvents } from './events.js';
import { newId } from './ids.js';

export interface EnvironmentRow {
  id: string;
  project_id: string;
  name: string;
  kind: 'standing' | 'review';
  /** The environment of the definition that says how it works. */
  plan_name: string;
  pull_request: number | null;
  host: string;
  state: EnvironmentState;
  health: Health;
  held_by: string | null;
  held_why: string | null;
  live_id: string | null;
  serving_id: string | null;
  table_version: number;
  /** Why it takes nothing by itself. */
  issue: Issue | null;
  created_at: Date;
}

const columns =
  'id, project_id, name, kind, plan_name, pull_request, host, state, health, held_by, held_why, live_id, serving_id, table_version::float8 as table_version, issue, created_at';

/** Makes an environment where there is none of the name, or opens a closed one again. */
export async function makeEnvironment(db: Db, environment: NewEnvironment, actor: string): Promise<void> {
  const { project, projectName, name } = environment;
  const known = await db.one<{ host: string; opened: boolean }>(
    `with opened as (
       update environments set state = 'empty', closed_at = null, due_at = now()
       where project_id = $1 and name = $2 and state in ('closing', 'closed') returning id
     )
     select host, exists (select 1 from opened) as opened from environments where project_id = $1 and name = $2`,
    [project, name],
  );
  if (known && !known.opened) return;
  const host = known?.host ?? (await addEnvironment(db, environment));
  if (host === null) return;
  await recordEvents(db, {
    type: 'environment.made',
    project,
    subject: `${projectName}/${name}`,
    actor,
    data: { host },
  });
  await notify(db, 'environments');
}

export interface NewEnvironment {
  project: string;
  projectName: string;
  name: string;
  kind: 'standing' | 'review';
  plan: string;
  pullRequest: number | null;
  /** Its address is one label below this. */
  domain: string;
}

/** Names tried for an address; as many projects and environments would have to spell the same. */
const mostLabels = 1_000;

/** Adds it under the first name that is free and gives its host; null when another one has added it meanwhile. */
async function addEnvironment(db: Db, environment: NewEnvironment): Promise<string | null> {
  const { project, projectName, name, kind, plan, pullRequest, domain } = environment;
  for (let attempt = 1; attempt <= mostLabels; attempt++) {
    const host = `${addressLabel(kind, projectName, name, attempt)}.${domain}`;
    // What a removed project has left is free again.
    await db.rows(
      `update environments e set host = e.id::text from projects p
       where p.id = e.project_id and p.removed_at is not null and e.state = 'closed' and e.host = $1`,
      [host],
    );
    const row = await db.one<{ taken: boolean }>(
      `with added as (
         insert into environments (id, project_id, name, kind, plan_name, pull_request, host)
         values ($1, $2, $3, $4, $5, $6, $7) on conflict do nothing returning id
       )
       select not exists (select 1 from added) as taken`,
      [newId(), project, name, kind, plan, pullRequest, host],
    );
    if (!row?.taken) return host;
    if (await db.one('select 1 as ok from environments where project_id = $1 and name = $2', [project, name]))
      return null;
  }
  throw new Error(`no address is left for ${projectName}/${name}`);
}

export const lockEnvironment = async (db: Db, id: string): Promise<EnvironmentRow> => {
  const row = await db.one<EnvironmentRow>(`select ${columns} from environments where id = $1 for update`, [id]);
  if (!row) throw new Error(`no environment ${id}`);
  return row;
};
export const environmentById = async (db: Db, id: string): Promise<EnvironmentRow> => {
  const row = await db.one<EnvironmentRow>(`select ${columns} from environments where id = $1`, [id]);
  if (!row) throw new Error(`no environment ${id}`);
  return row;
};
export const findEnvironment = (db: Db, project: string, name: string): Promise<EnvironmentRow | null> =>
  db.one(`select ${columns} from environments where project_id = $1 and name = $2`, [project, name]);
export const environmentsOf = (db: Db, project: string): Promise<EnvironmentRow[]> =>
  db.rows(`select ${columns} from environments where project_id = $1 and state <> 'closed' order by created_at, name`, [
    project,
  ]);

export async function dueEnvironments(db: Db, project: string): Promise<void> {
  await db.rows(
    `update environments set due_at = now() where id in (select id from environments where project_id = $1 and state <> 'closed' order by id for update)`,
    [project],
  );
  await notify(db, 'environments');
}

/** Locks all environments of a project, in the order that everyone keeps. */
export const lockEnvironments = (db: Db, project: string): Promise<unknown> =>
  db.rows(`select 1 from environments where project_id = $1 and state <> 'closed' order by id for update`, [project]);

/** Ends the warmth of all but the newest `most` replaced deployments of an environment. */
export const coolOthers = (db: Db, environment: string, most: number): Promise<unknown> =>
  db.rows(
    `update deployments set warm_until = now(), due_at = now() where id in (
       select id from deployments where environment_id = $1 and warm_until > now() order by number desc offset $2)`,
    [environment, most],
  );

/** Ends the warmth of the one that has been warm for longest and has servers on this agent: what is wanted now needs the room. False when none has. */
export async function coolOldest(db: Db, agent: string): Promise<boolean> {
  const row = await db.one(
    `update deployments set warm_until = now(), due_at = now() where id = (
       select d.id from deployments d where d.warm_until > now() and d.state in ('replaced', 'reverted')
         and exists (select 1 from instances i where i.deployment_id = d.id and i.agent_id = $1 and i.state = 'ready')
       order by d.replaced_at limit 1 for update skip locked) returning 1 as ok`,
    [agent],
  );
  if (row) await notify(db, 'deployments');
  return row !== null;
}

export async function holdEnvironment(db: Db, id: string, who: string, why: string): Promise<void> {
  await db.rows('update environments set held_by = $2, held_why = $3 where id = $1', [id, who, why]);
}
export async function liftEnvironment(db: Db, id: string): Promise<boolean> {
  const row = await db.one(
    'update environments set held_by = null, held_why = null, due_at = now() where id = $1 and held_by is not null returning 1 as ok',
    [id],
  );
  if (row) await notify(db, 'environments');
  return row !== null;
}

export const setEnvironmentState = (db: Db, id: string, state: EnvironmentState): Promise<unknown> =>
  db.rows(
    `update environments set state = $2, closed_at = case when $2 = 'closed' then now() end, due_at = case when $2 = 'closed' then null else now() end, live_id = case when $2 = 'closed' then null else live_id end, serving_id = case when $2 = 'closed' then null else serving_id end where id = $1`,
    [id, state],
  );
export const setHealth = (db: Db, id: string, health: Health): Promise<unknown> =>
  db.rows('update environments set health = $2 where id = $1', [id, health]);
export const setServing = (db: Db, id: string, deployment: string | null, version: number): Promise<unknown> =>
  db.rows('update environments set serving_id = $2, table_version = $3 where id = $1', [id, deployment, version]);
export const setLive = (db: Db, id: string, deployment: string): Promise<unknown> =>
  db.rows(`update environments set live_id = $2, state = 'live' where id = $1`, [id, deployment]);

export interface DeploymentRow {
  id: string;
  project_id: string;
  number: number;
  environment_id: string;
  release_id: string;
  kind: DeploymentKind;
  actor: string;
  state: DeploymentState;
  state_since: Date;
  failure: Issue | null;
  definition_commit: string | null;
  environment_plan: EnvironmentPlan;
  /** Plain ones. */
  variables: Record<string, string>;
  secrets: Record<string, SecretPlace>;
  replaces_id: string | null;
  live_at: Date | null;
  warm_until: Date | null;
  created_at: Date;
  ended_at: Date | null;
}

const deploymentColumns =
  'id, project_id, number, environment_id, release_id, kind, actor, state, state_since, failure, definition_commit, environment_plan, variables, secrets, replaces_id, live_at, warm_until, created_at, ended_at';

export const setWaits = (db: Db, id: string, issue: Issue | null): Promise<unknown> =>
  db.rows('update environments set issue = $2 where id = $1', [id, issue === null ? null : json(issue)]);

export interface NewDeployment {
  project: string;
  number: number;
  environment: string;
  release: string;
  kind: DeploymentKind;
  actor: string;
  definitionCommit: string | null;
  plan: EnvironmentPlan;
  variables: Record<string, string>;
  secrets: Record<string, SecretPlace>;
}

export async function addDeployment(db: Db, one: NewDeployment): Promise<DeploymentRow> {
  const row = await db.one<DeploymentRow>(
    `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, definition_commit, environment_plan, variables, secrets) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) returning ${deploymentColumns}`,
    [
      newId(),
      one.project,
      one.number,
      one.environment,
      one.release,
      one.kind,
      one.actor,
      one.definitionCommit,
      json(one.plan),
      json(one.variables),
      json(one.secrets),
    ],
  );
  await notify(db, 'deployments');
  return row as DeploymentRow;
}

export const deploymentById = (db: Db, id: string): Promise<DeploymentRow | null> =>
  db.one(`select ${deploymentColumns} from deployments where id = $1`, [id]);
export const lockDeployment = (db: Db, id: string): Promise<DeploymentRow | null> =>
  db.one(`select ${deploymentColumns} from deployments where id = $1 for update`, [id]);
export const findDeployment = (db: Db, project: string, number: number): Promise<DeploymentRow | null> =>
  db.one(`select ${deploymentColumns} from deployments where project_id = $1 and number = $2`, [project, number]);
/** The newest first. */
export const deploymentsOf = (
  db: Db,
  environment: string,
  limit: number,
): Promise<(DeploymentRow & { release: number; commit: string })[]> =>
  db.rows(
    `select ${deploymentColumns.replace(/(^|, )(\w+)/g, '$1d.$2')}, r.number as release, r.commit from deployments d join releases r on r.id = d.release_id where d.environment_id = $1 order by d.number desc limit $2`,
    [environment, limit],
  );

export const movingDeployments = (db: Db, environment: string): Promise<DeploymentRow[]> =>
  db.rows(
    `select ${deploymentColumns} from deployments where environment_id = $1 and state in ('queued', 'preparing', 'starting', 'cutover', 'verifying') order by number`,
    [environment],
  );

export async function setDeploymentState(
  db: Db,
  id: string,
  state: DeploymentState,
  failure: Issue | null,
): Promise<void> {
  await db.rows(
    `update deployments set state = $2, failure = $3, state_since = case when state = $2 then state_since else now() end,
       live_at = case when $2 = 'live' then coalesce(live_at, now()) else live_at end,
       ended_at = case when $2 in ('live', 'failed', 'replaced') then coalesce(ended_at, now()) else ended_at end where id = $1`,
    [id, state, failure === null ? null : json(failure)],
  );
  await notify(db, `deployment:${id}`);
}

/** Fails a deployment that is on its way, and stops what runs for it; it stays in its state until all is back as it was. */
export async function setFailure(db: Db, id: string, failure: Issue): Promise<void> {
  await db.rows(`update attempts set stop = true where deployment_id = $1 and state in ('waiting', 'running')`, [id]);
  await db.rows('update deployments set failure = coalesce(failure, $2::jsonb) where id = $1', [id, json(failure)]);
  await notify(db, `deployment:${id}`, 'work');
}

/** The deployment that was live is so no longer; its servers stay warm until then. */
export async function retireDeployment(
  db: Db,
  id: string,
  state: 'replaced' | 'reverted',
  warmMs: number,
): Promise<void> {
  await db.rows(
    `update deployments set state = $2, replaced_at = now(), warm_until = now() + $3::float8 * interval '1 ms', due_at = now() + $3::float8 * interval '1 ms' where id = $1`,
    [id, state, warmMs],
  );
  await notify(db, 'deployments');
}

export const setReplaces = (db: Db, id: string, before: string | null): Promise<unknown> =>
  db.rows('update deployments set replaces_id = $2 where id = $1', [id, before]);

/** Puts a deployment on the work list, and whatever is on its way in the same environment: it may wait for an end there. */
export async function wakeDeployments(db: Db, id: string): Promise<void> {
  await db.rows(
    `update deployments set due_at = now() where id in (
       select id from deployments where id = $1 or (environment_id = (select environment_id from deployments where id = $1) and state in ('queued', 'preparing', 'starting', 'cutover', 'verifying')) order by id for update)`,
    [id],
  );
  await notify(db, 'deployments');
}
