import type { InferAttributes } from 'sequelize';
import type { Project } from '../models/projects/projects.js';
import { Op } from 'sequelize';
import type { Definition } from '../../core/definition/model.js';
import { storedDefinition } from '../../core/definition/stored.js';
import type { DefinitionIssue } from '../../core/definition/parse.js';
import type { Issue } from '../../core/errors/errors.js';
import type { BeginningKind, SourceKind } from '../../core/states.js';
import { json, type Db, notify, queryOne, query, now, tables } from '../database.js';
import { subscribeHost } from '../deliveries/subscriptions.js';
import { recordEvents } from '../events.js';
import { newId } from '../ids.js';

const columns = [
  'id',
  'name',
  'source',
  'main_branch',
  'folder',
  'url',
  'event_secret',
  'credential',
  'private_allowed',
  'draft',
  'beginning',
  'paused_at',
  'poll_issue',
  'pull_refs',
  'status_url',
  'status_issue',
  'definition_commit',
  'definition_run',
  'protect',
] as const satisfies readonly (keyof InferAttributes<Project>)[];

/** A project, without what its own loops keep of it. */
export type ProjectRow = Pick<InferAttributes<Project>, (typeof columns)[number]>;

export interface NewProject {
  name: string;
  source: SourceKind;
  mainBranch: string;
  folder: string;
  url: string | null;
  eventSecret: Buffer | null;
  credential: Buffer | null;
  privateAllowed: boolean;
  draft: string | null;
  beginning: BeginningKind | null;
}

/** Null when the name is taken. */
export async function addProject(
  db: Db,
  project: NewProject & { id?: string },
  actor: string,
): Promise<ProjectRow | null> {
  const row = await queryOne<ProjectRow>(
    db,
    `insert into projects (id, name, source, main_branch, folder, url, event_secret, credential, private_allowed, draft, beginning, poll_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, case when $3 = 'polled' then now() end) on conflict (name) do nothing returning ${columns.join(', ')}`,
    [
      project.id ?? newId(),
      project.name,
      project.source,
      project.mainBranch,
      project.folder,
      project.url,
      project.eventSecret,
      project.credential,
      project.privateAllowed,
      project.draft,
      project.beginning,
    ],
  );
  if (row) await notify(db, 'polls');
  if (row)
    await recordEvents(db, {
      type: 'project.added',
      project: row.id,
      subject: row.name,
      actor,
      data: { source: row.source },
    });
  return row;
}

/** Its first commit is there. */
export const begunProject = (db: Db, id: string): Promise<unknown> =>
  query(db, 'update projects set beginning = null where id = $1', [id]);

export async function findProject(db: Db, name: string): Promise<ProjectRow | null> {
  const { Project, in: within } = tables(db);
  return Project.findOne({ attributes: [...columns], where: { name, removed_at: null }, raw: true, ...within });
}

export async function projectById(db: Db, id: string): Promise<ProjectRow> {
  const { Project, in: within } = tables(db);
  const row = await Project.findByPk(id, { attributes: [...columns], raw: true, ...within });
  if (!row) throw new Error(`no project ${id}`);
  return row;
}

export async function listProjects(db: Db): Promise<ProjectRow[]> {
  const { Project, in: within } = tables(db);
  const where = { removed_at: null };
  return Project.findAll({ attributes: [...columns], where, order: ['name'], raw: true, ...within });
}

/** The next number of a kind of thing in a project; part of the transaction that uses it. */
export async function nextNumber(db: Db, project: string, kind: 'releases' | 'variables'): Promise<number> {
  const row = await queryOne<{ number: number }>(
    db,
    `update projects set ${kind} = ${kind} + 1 where id = $1 returning ${kind} as number`,
    [project],
  );
  if (!row) throw new Error(`no project ${project}`);
  return row.number;
}

export async function saveDefinition(
  db: Db,
  project: string,
  commit: string,
  model: Definition | null,
  issues: readonly DefinitionIssue[],
): Promise<void> {
  await query(
    db,
    `insert into definitions (project_id, commit, model, issues)
       values ($1, $2, $3, $4)
     on conflict (project_id, commit) do update set model = excluded.model, issues = excluded.issues`,
    [project, commit, model === null ? null : json(model), json(issues)],
  );
}

export async function definitionOf(
  db: Db,
  project: string,
  commit: string,
): Promise<{ model: Definition | null; issues: DefinitionIssue[] } | null> {
  const row = await queryOne<{ model: Definition | null; issues: DefinitionIssue[] }>(
    db,
    'select model, issues from definitions where project_id = $1 and commit = $2',
    [project, commit],
  );
  return row && { ...row, model: row.model && storedDefinition(row.model) };
}

/** The last valid definition of the main branch: what says where releases may go. */
export async function mainDefinition(db: Db, project: string): Promise<{ commit: string; model: Definition } | null> {
  const row = await queryOne<{ commit: string; model: Definition }>(
    db,
    `select d.commit, d.model
     from projects p join definitions d on d.project_id = p.id and d.commit = p.definition_commit
     where p.id = $1 and d.model is not null`,
    [project],
  );
  return row && { ...row, model: storedDefinition(row.model) };
}

/**
 * The recorded head of main, with the project locked until the end of the transaction: a push that moves main waits, or is seen here.
 * Null when main has no commit.
 */
export async function lockMainHead(db: Db, project: string): Promise<string | null> {
  await lockProject(db, project);
  // A statement of its own. One that had waited for the lock would see the branches as they were before.
  const row = await queryOne<{ head: string }>(
    db,
    `select b.head from projects p join branches b on b.project_id = p.id and b.name = p.main_branch where p.id = $1`,
    [project],
  );
  return row?.head ?? null;
}

/** Main declares what this commit's definition says. Called under the project's lock, for the recorded head of main alone. */
export async function acceptDefinition(db: Db, project: string, commit: string, run: number): Promise<void> {
  const { Project, in: within } = tables(db);
  await Project.update({ definition_commit: commit, definition_run: run }, { where: { id: project }, ...within });
}

/** A polled project with the fence under which it is looked at. */
export type Polled = ProjectRow & { poll_failures: number; poll_fence: number };

/** Takes a polled project that is due, for `leaseMs`. This process looks at those of `except` already: they follow when that is finished. */
export const takePoll = (db: Db, leaseMs: number, except: readonly string[] = []): Promise<Polled | null> =>
  queryOne(
    db,
    `update projects set poll_fence = poll_fence + 1, poll_at = now() + $1::int * interval '1 ms' where id = (
       select id from projects where poll_at <= now() and paused_at is null and removed_at is null and id <> all($2) order by poll_at limit 1 for update skip locked
     ) returning ${columns.join(', ')}, poll_failures, poll_fence`,
    [leaseMs, except],
  );

/** When it is looked at again, and why the last look failed. Changes nothing where another look was asked for or has begun since. */
export const settlePoll = (
  db: Db,
  { id, poll_fence }: { id: string; poll_fence: number },
  nextMs: number,
  failures: number,
  issue: Issue | null,
): Promise<unknown> =>
  query(
    db,
    `update projects
     set poll_at = now() + $2::int * interval '1 ms', poll_failures = $3, poll_issue = $4
     where id = $1
       and poll_fence = $5`,
    [id, nextMs, failures, issue === null ? null : json(issue), poll_fence],
  );

/** Asks for a look at once, also where one is going on: that one may have listed the branches already. */
export async function pollSoon(db: Db, id: string): Promise<void> {
  await query(
    db,
    `update projects set poll_at = now(), poll_fence = poll_fence + 1 where id = $1 and source = 'polled'`,
    [id],
  );
  await notify(db, 'polls');
}

/** Milliseconds until the next look at a polled source that is not one of `except`. */
export const nextPoll = async (db: Db, except: readonly string[] = []): Promise<number | null> =>
  (
    await queryOne<{ ms: number | null }>(
      db,
      `select (extract(epoch from min(poll_at) - now()) * 1000)::float8 as ms
       from projects
       where poll_at is not null
         and paused_at is null
         and removed_at is null
         and id <> all($1)`,
      [except],
    )
  )?.ms ?? null;

/** Projects that were removed and of which nothing is live any more. */
export const removedProjects = (db: Db): Promise<Pick<ProjectRow, 'id'>[]> =>
  query(
    db,
    `select id from projects p where removed_at is not null and not exists (select 1 from environments e where e.project_id = p.id and e.state <> 'closed')
       and not exists (select 1 from runs r where r.project_id = p.id and r.state in ('waiting', 'running'))`,
  );

/** From now on the states of its runs are told there, or to nobody. */
export async function setStatusUrl(db: Db, id: string, url: string | null, actor: string): Promise<void> {
  const { Project, in: within } = tables(db);
  await Project.update({ status_url: url, status_issue: null }, { where: { id }, ...within });
  await subscribeHost(db, id, url !== null, actor);
}

/** What is wrong with telling them. */
export async function noteStatus(db: Db, id: string, issue: Issue | null): Promise<void> {
  const { Project, in: within } = tables(db);
  await Project.update({ status_issue: issue as never }, { where: { id }, ...within });
}

/** Keeps others from changing what belongs to a project meanwhile. */
export const lockProject = (db: Db, id: string): Promise<unknown> =>
  query(db, 'select 1 from projects where id = $1 for update', [id]);

/** Changes some of its columns. */
export async function setProject(
  db: Db,
  id: string,
  change: Partial<Pick<ProjectRow, 'name' | 'url' | 'credential' | 'draft' | 'poll_issue' | 'paused_at' | 'protect'>>,
): Promise<void> {
  const { Project, in: within } = tables(db);
  await Project.update(change, { where: { id }, ...within });
}

/** Its source is looked at as soon as possible, where it is one that is looked at. */
export async function pollNow(db: Db, id: string): Promise<void> {
  const { Project, in: within } = tables(db);
  await Project.update({ poll_at: now() }, { where: { id, source: 'polled' }, ...within });
}

/** Refs that were found in its repository and are deleted now. */
export async function noteForeignRefs(db: Db, id: string, refs: readonly string[]): Promise<void> {
  const { Project, in: within } = tables(db);
  await Project.update({ foreign_refs: [...refs], foreign_refs_at: now() }, { where: { id }, ...within });
}

/** Notes whether files of main are pointers to what is kept elsewhere. Returns whether that is another attribute than before. */
export const noteFiltered = async (db: Db, id: string, attribute: string | null): Promise<boolean> =>
  (await queryOne(
    db,
    'update projects set filtered = $2 where id = $1 and filtered is distinct from $2 returning 1 as ok',
    [id, attribute],
  )) !== null;

/** What goes with a project that is removed. */
export interface Removal {
  environments: string[];
  addresses: string[];
  runs: number;
  releases: number;
  variables: number;
  /** What its environments have of their own: `staging timetable`. */
  resources: string[];
}

export async function removalOf(db: Db, { id }: Pick<ProjectRow, 'id'>): Promise<Removal> {
  const { Environment, Release, Run, in: within } = tables(db);
  const environments = await Environment.findAll({
    attributes: ['name', 'host'],
    where: { project_id: id, state: { [Op.ne]: 'closed' } },
    order: ['name'],
    raw: true,
    ...within,
  });
  const variables = await queryOne<{ n: number }>(
    db,
    'select count(distinct (scope, name))::int as n from variables where project_id = $1 and not removed',
    [id],
  );
  const resources = await query<{ name: string }>(
    db,
    `select e.name || ' ' || r.name as name from resources r join environments e on e.id = r.environment_id
     where e.project_id = $1 and r.state <> 'removed' and r.place <> 'elsewhere' order by 1`,
    [id],
  );
  return {
    environments: environments.map((one) => one.name),
    addresses: environments.map((one) => one.host),
    runs: await Run.count({ where: { project_id: id }, ...within }),
    releases: await Release.count({ where: { project_id: id, gone_at: null }, ...within }),
    variables: variables?.n ?? 0,
    resources: resources.map((one) => one.name),
  };
}

/** Frees its name, and forgets what is secret of it; the record of what happened stays. */
export async function forgetProject(db: Db, id: string): Promise<void> {
  const { Subscription, Token, Variable, in: within } = tables(db);
  await Variable.update({ sealed: null, value: null, removed: true }, { where: { project_id: id }, ...within });
  await Token.update({ removed_at: now() }, { where: { project_id: id, removed_at: null }, ...within });
  await Subscription.update(
    { removed_at: now(), due_at: null, sealed: null },
    { where: { project_id: id, removed_at: null }, ...within },
  );
  await query(db, 'delete from pulled where project_id = $1', [id]);
  await query(
    db,
    `update projects set name = id::text, removed_at = now(), credential = null, event_secret = null, draft = null,
       poll_at = null
     where id = $1`,
    [id],
  );
}
