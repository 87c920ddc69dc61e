import { inOrder, lockedIds, noteLocks, rowLock } from '../locks.js';
import { Op } from 'sequelize';
import { addressLabel } from '../../core/addresses.js';
import type { ScrubPlan } from '../../core/definition/model.js';
import type { SetSizes } from '../../core/scale/sizes.js';
import type { Issue } from '../../core/errors/errors.js';
import type { Rules } from '../../core/rules/in-force.js';
import type { Freeze } from '../models/deployments/environments.js';
import type { EnvironmentState, Health, SleepDepth, Wish } from '../../core/states.js';
import { type Db, json, notify, queryOne, query, tables } from '../database.js';
import { recordEvents } from '../events.js';
import { newId } from '../ids.js';

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
  /** Part → what a person has set of its size. */
  sizes: SetSizes;
  created_at: Date;
  /** Since when it is there: it may have been closed, and opened again. */
  opened_at: Date;
  /** It closes, and is wanted again as soon as nothing of it is left. */
  reopen: boolean;
  /** Since when it is in its state. */
  state_since: Date;
  /** How deep it sleeps, or shall. */
  depth: SleepDepth | null;
  used_at: Date;
  /** When it was woken or made live last. */
  woken_at: Date;
  /** It does not close by itself before. */
  keep_until: Date | null;
  /** What was asked of it, and is not done yet. */
  wish: Wish | null;
  /** Why the last wake failed. */
  wake_issue: Issue | null;
  /** Of a review without a pull request: the branch whose releases it takes. */
  branch: string | null;
  /** Of a pull request whose author may not write there: apart from all others. */
  outside: boolean;
  /** The rules that count; null: those that main declares. */
  rules: Rules | null;
  /** By hand, of an owner; one whose end has come counts no more. */
  frozen_by: Freeze | null;
  /** Since when what is live is in good health without a pause; null: it is not. */
  healthy_since: Date | null;
}

const columns =
  'id, project_id, name, kind, plan_name, pull_request, host, state, health, held_by, held_why, live_id, serving_id, table_version::float8 as table_version, issue, sizes, created_at, opened_at, reopen, state_since, depth, used_at, woken_at, keep_until, wish, wake_issue, branch, outside, rules, frozen_by, healthy_since';

/** Makes an environment where there is none of the name, or opens a closed one again; one that closes just now when it has closed. */
export async function makeEnvironment(db: Db, environment: NewEnvironment, actor: string): Promise<void> {
  const { project, projectName, name, outside = false } = environment;
  // Held first: whoever closes it just now is waited for.
  const known = await queryOne<{ id: string; state: EnvironmentState; host: string }>(
    db,
    `select id, state, host from environments where project_id = $1 and name = $2 ${rowLock}`,
    [project, name],
  );
  if (known?.state === 'closing') return void (await reopenLater(db, known.id, outside));
  if (known && (known.state !== 'closed' || environment.again === false)) return;
  if (known)
    await query(
      db,
      `update environments set state = 'empty', state_since = now(), closed_at = null, opened_at = now(), used_at = now(), woken_at = now(),
         keep_until = null, wish = null, wake_issue = null, depth = null, held_by = null, held_why = null, due_at = now(), outside = $2
       where id = $1`,
      [known.id, outside],
    );
  const host = known ? await settleHost(db, { ...environment, ...known }) : await addEnvironment(db, environment);
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
  /** Of a review without a pull request. */
  branch?: string;
  /** Of a pull request whose author may not write there. Default: it is not. */
  outside?: boolean;
  /** False: one that was closed stays so. */
  again?: false;
}

/** Names tried for an address; as many projects and environments would have to spell the same. */
const mostLabels = 1_000;

/** Adds it under the first name that is free and gives its host; null when another one has added it meanwhile. */
async function addEnvironment(db: Db, environment: NewEnvironment): Promise<string | null> {
  const { project, projectName, name, kind, plan, pullRequest, domain, branch = null, outside = false } = environment;
  for (let attempt = 1; attempt <= mostLabels; attempt++) {
    const host = `${addressLabel(kind, projectName, name, attempt)}.${domain}`;
    // What a removed project has left is free again.
    await query(
      db,
      `update environments e set host = e.id::text from projects p
       where p.id = e.project_id and p.removed_at is not null and e.state = 'closed' and e.host = $1`,
      [host],
    );
    const row = await queryOne<{ taken: boolean }>(
      db,
      `with added as (
         insert into environments (id, project_id, name, kind, plan_name, pull_request, host, branch, outside)
         select $1::uuid, $2::uuid, $3, $4, $5, $6::int, $7::text, $8::text, $9::boolean
         where not exists (select 1 from addresses where host = $7 and removed_at is null) on conflict do nothing returning id
       )
       select not exists (select 1 from added) as taken`,
      [newId(), project, name, kind, plan, pullRequest, host, branch, outside],
    );
    if (!row?.taken) return host;
    if (await queryOne(db, 'select 1 as ok from environments where project_id = $1 and name = $2', [project, name]))
      return null;
  }
  throw new Error(`no address is left for ${projectName}/${name}`);
}

/** Gives one that nobody reaches an address below that domain, where it has none there; gives its host. */
export async function settleHost(
  db: Db,
  {
    id,
    kind,
    host: before,
    name,
    projectName,
    domain,
  }: Pick<NewEnvironment, 'kind' | 'name' | 'projectName' | 'domain'> & { id: string; host: string },
): Promise<string> {
  if (before.endsWith(`.${domain}`)) return before;
  for (let attempt = 1; attempt <= mostLabels; attempt++) {
    const host = `${addressLabel(kind, projectName, name, attempt)}.${domain}`;
    const taken = await queryOne(
      db,
      `select 1 as ok from environments where host = $1 union all select 1 from addresses where host = $1 and removed_at is null`,
      [host],
    );
    if (taken) continue;
    await query(db, 'update environments set host = $2 where id = $1', [id, host]);
    return host;
  }
  throw new Error(`no address is left for ${projectName}/${name}`);
}

const lockOne = async (db: Db, where: string, ...bind: string[]): Promise<EnvironmentRow | null> => {
  const row = await queryOne<EnvironmentRow>(db, `select ${columns} from environments where ${where} ${rowLock}`, bind);
  if (row) noteLocks(db, 'environments', [row]);
  return row;
};

export const lockEnvironment = async (db: Db, id: string): Promise<EnvironmentRow> => {
  const row = await lockOne(db, 'id = $1', id);
  if (!row) throw new Error(`no environment ${id}`);
  return row;
};
/** Locks the environment of this name; null: there is none. */
export const lockEnvironmentNamed = (db: Db, project: string, name: string): Promise<EnvironmentRow | null> =>
  lockOne(db, 'project_id = $1 and name = $2', project, name);
/** Locks the environment to which a host leads; null: none. */
export const lockEnvironmentAt = (db: Db, host: string): Promise<EnvironmentRow | null> =>
  lockOne(
    db,
    `id = (select id from environments where host = $1
       union select environment_id from addresses where host = $1 and removed_at is null and kind = 'given' limit 1)`,
    host,
  );
/** The environment of a deployment is looked at again where it is on its way to sleep, awake, or to its end. */
export async function dueTurning(db: Db, deployment: string): Promise<void> {
  const rows = await query(
    db,
    `update environments set due_at = now() where id = (select environment_id from deployments where id = $1)
       and state in ('closing', 'falling asleep', 'waking') returning 1`,
    [deployment],
  );
  if (rows.length) await notify(db, 'environments');
}
/** Locks the environment of a deployment. */
export const lockEnvironmentOf = (db: Db, deployment: string): Promise<EnvironmentRow | null> =>
  lockOne(db, 'id = (select environment_id from deployments where id = $1)', deployment);
/** Whether the environment of a deployment is on its way to be awake. */
export const isWaking = async (db: Db, deployment: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from environments e join deployments d on d.environment_id = e.id where d.id = $1 and e.state = 'waking'`,
    [deployment],
  )) !== null;
export const environmentById = async (db: Db, id: string): Promise<EnvironmentRow> => {
  const row = await queryOne<EnvironmentRow>(db, `select ${columns} from environments where id = $1`, [id]);
  if (!row) throw new Error(`no environment ${id}`);
  return row;
};
/** Reviews of a project that are open, with the author of the pull request where there is one. */
export const openReviews = (db: Db, project: string): Promise<{ name: string; author: string | null }[]> =>
  query(
    db,
    `select e.name, q.author from environments e
       left join pull_requests q on q.project_id = e.project_id and q.number = e.pull_request
     where e.project_id = $1 and e.kind = 'review' and e.state <> 'closed'`,
    [project],
  );

/** The review of a branch, closed or not. */
export const branchReview = (db: Db, project: string, branch: string): Promise<EnvironmentRow | null> =>
  queryOne(db, `select ${columns} from environments where project_id = $1 and branch = $2`, [project, branch]);

export const findEnvironment = (db: Db, project: string, name: string): Promise<EnvironmentRow | null> =>
  queryOne(db, `select ${columns} from environments where project_id = $1 and name = $2`, [project, name]);
export const environmentsOf = (db: Db, project: string): Promise<EnvironmentRow[]> =>
  query(
    db,
    `select ${columns} from environments
     where project_id = $1
       and state <> 'closed'
     order by created_at, name`,
    [project],
  );

/**
 * Held by who makes a release, and alone by who makes an environment that may take one: of two at once one comes first, so that the
 * release wakes the environment, or that finds the release. Before any other lock.
 */
export const holdReleases = (db: Db, project: string, how: 'shared' | 'alone'): Promise<unknown> =>
  query(db, `select pg_advisory_xact_lock${how === 'shared' ? '_shared' : ''}(7403141, hashtext($1))`, [project]);

/** Environments of a condition look again. Returns how many there are. */
export async function makeEnvironmentsDue(db: Db, where: string, bind: unknown[]): Promise<number> {
  const rows = await query<{ id: string }>(
    db,
    `update environments set due_at = now() where id in (${lockedIds('environments', where)}) returning id`,
    bind,
  );
  noteLocks(db, 'environments', inOrder(rows));
  return rows.length;
}

/** The review of a pull request or branch looks for the release that was made of it. */
export async function dueReviewOf(
  db: Db,
  project: string,
  of: { pull_request: number | null; branch: string | null },
): Promise<void> {
  await makeEnvironmentsDue(
    db,
    `project_id = $1 and state <> 'closed' and kind <> 'standing' and (pull_request = $2::int or branch = $3::text)`,
    [project, of.pull_request, of.branch],
  );
  await notify(db, 'environments');
}

/** Reviews of a plan look at how they sleep and close. */
export async function dueReviews(db: Db, project: string, plan: string): Promise<void> {
  await makeEnvironmentsDue(db, `project_id = $1 and plan_name = $2 and kind = 'review' and state <> 'closed'`, [
    project,
    plan,
  ]);
  await notify(db, 'environments');
}

/** Whether no environment has or had this name: what a removed project has left is free. */
export const hostIsFree = async (db: Db, host: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from environments where host = $1
     union all select 1 from addresses where host = $1 and removed_at is null limit 1`,
    [host],
  )) === null;

export async function setHost(db: Db, id: string, host: string): Promise<void> {
  const { Environment, in: within } = tables(db);
  await Environment.update({ host }, { where: { id }, ...within });
}

/**
 * Locks environments of projects in the order that all keep: those of one name, closed or not, or all that are not closed. It comes before the lock of
 * any single environment there.
 */
export async function lockEnvironments(db: Db, projects: readonly string[], name: string | null): Promise<void> {
  const where = `project_id = any($1::uuid[]) and case when $2::text is null then state <> 'closed' else name = $2 end`;
  noteLocks(db, 'environments', await query(db, lockedIds('environments', where), [projects, name]));
}

/** Ends the warmth of all but the newest `most` replaced deployments of an environment. */
export const coolOthers = (db: Db, environment: string, most: number): Promise<unknown> =>
  query(
    db,
    `update deployments set warm_until = now(), due_at = now() where id in (
       select id from deployments where environment_id = $1 and warm_until > now() order by number desc offset $2)`,
    [environment, most],
  );

/** Ends the warmth of the one that has been warm for longest and has servers on this agent: what is wanted now needs the room. False when none has. */
export async function coolOldest(db: Db, agent: string): Promise<boolean> {
  const row = await queryOne(
    db,
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
  const { Environment, in: within } = tables(db);
  await Environment.update({ held_by: who, held_why: why }, { where: { id }, ...within });
}
export async function liftEnvironment(db: Db, id: string): Promise<boolean> {
  const row = await queryOne(
    db,
    `update environments
     set held_by = null, held_why = null, due_at = now()
     where id = $1
       and held_by is not null
     returning 1 as ok`,
    [id],
  );
  if (row) await notify(db, 'environments');
  return row !== null;
}

/** One that closes is made anew as soon as nothing of it is left. */
export const reopenLater = (db: Db, id: string, outside: boolean): Promise<unknown> =>
  query(db, `update environments set reopen = true, outside = $2 where id = $1 and state = 'closing'`, [id, outside]);

/** Nothing of it is left: it is closed, or, where it is wanted again by now, empty. Gives whether it is. */
export const endClosing = async (db: Db, id: string): Promise<boolean> =>
  (
    await queryOne<{ state: EnvironmentState }>(
      db,
      `update environments
     set state = case when reopen then 'empty' else 'closed' end, state_since = now(), reopen = false, live_id = null, serving_id = null,
       depth = null, wish = null, wake_issue = null, keep_until = null, used_at = now(),
       closed_at = case when reopen then null else now() end, due_at = case when reopen then now() end,
       opened_at = case when reopen then now() else opened_at end,
       held_by = case when reopen then null else held_by end, held_why = case when reopen then null else held_why end
     where id = $1 returning state`,
      [id],
    )
  )?.state === 'empty';

/** Whether nothing has filled its data since it was opened. */
export const dataIsNew = async (db: Db, id: string): Promise<boolean> =>
  (await queryOne(
    db,
    'select 1 as ok from environments where id = $1 and (seeded_at is null or seeded_at < opened_at)',
    [id],
  )) !== null;

export async function setSeeded(db: Db, id: string): Promise<void> {
  await query(db, 'update environments set seeded_at = now() where id = $1', [id]);
}

/** The scrub with which an owner has permitted copies of its data; null: nobody has. */
export const copiesOf = async (db: Db, id: string): Promise<ScrubPlan | null> =>
  (await queryOne<{ copies: ScrubPlan | null }>(db, 'select copies from environments where id = $1', [id]))?.copies ??
  null;

export const setCopies = (db: Db, id: string, plan: ScrubPlan | null): Promise<unknown> =>
  query(db, 'update environments set copies = $2 where id = $1', [id, plan === null ? null : json(plan)]);

export async function setHealth(db: Db, id: string, health: Health): Promise<void> {
  await query(
    db,
    `update environments set health = $2,
       healthy_since = case when $2 = 'good' then coalesce(healthy_since, now()) end where id = $1`,
    [id, health],
  );
}

export async function setServing(db: Db, id: string, deployment: string | null, version: number): Promise<void> {
  const { Environment, in: within } = tables(db);
  await Environment.update({ serving_id: deployment, table_version: String(version) }, { where: { id }, ...within });
}

export async function setLive(db: Db, id: string, deployment: string): Promise<void> {
  await query(
    db,
    `update environments set live_id = $2, state_since = case when state = 'live' then state_since else now() end, state = 'live',
       woken_at = now(), depth = null, wake_issue = null, healthy_since = null where id = $1`,
    [id, deployment],
  );
}

export async function setWaits(db: Db, id: string, issue: Issue | null): Promise<void> {
  const { Environment, in: within } = tables(db);
  await Environment.update({ issue }, { where: { id }, ...within });
}

/** Closes the environments of a project, or some of them; gives those that were open. */
export async function closeEnvironments(
  db: Db,
  project: string,
  such: { pull_request?: number; branch?: string; name?: string } = {},
): Promise<{ id: string; name: string }[]> {
  const { Environment, in: within } = tables(db);
  // Whoever wanted it again while it closed wants it no more.
  await Environment.update({ reopen: false }, { where: { project_id: project, state: 'closing', ...such }, ...within });
  const [, closed] = await Environment.update(
    { state: 'closing', state_since: new Date(), wish: null },
    {
      where: { project_id: project, state: { [Op.notIn]: ['closing', 'closed'] }, ...such },
      returning: ['id', 'name'] as never,
      ...within,
    },
  );
  return closed.map(({ id, name }) => ({ id, name }));
}

/** Whatever in this scope waits for a value looks again. */
export async function wakeEnvironments(db: Db, project: string, scope: string): Promise<void> {
  await query(
    db,
    `update environments set due_at = now()
     where project_id = $1 and state not in ('closing', 'closed') and ($2 = '' or name = $2 or plan_name = $2)`,
    [project, scope],
  );
  await notify(db, 'environments');
}

export const setSizes = (db: Db, id: string, sizes: SetSizes): Promise<unknown> =>
  query(db, 'update environments set sizes = $2 where id = $1', [id, json(sizes)]);

/** Ids of environments in which the processor decides on the number of some part of what is live. */
export const scaledEnvironments = async (db: Db): Promise<string[]> =>
  (
    await query<{ id: string }>(
      db,
      `select e.id from environments e join deployments d on d.id = e.live_id join releases r on r.id = d.release_id
       where e.state = 'live'
         and (r.plan @? '$.parts.*.auto.min' or d.environment_plan @? '$.parts.*.auto.min') order by e.id`,
    )
  ).map((row) => row.id);
