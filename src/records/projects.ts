import type { Definition } from '../core/definition/model.js';
import { storedDefinition } from '../core/definition/stored.js';
import type { DefinitionIssue } from '../core/definition/parse.js';
import type { Issue } from '../core/errors/errors.js';
import type { SourceKind } from '../core/states.js';
import { json, type Db, notify } from './database.js';
import { recordEvents } from './events.js';
import { newId } from './ids.js';

export interface ProjectRow {
  id: string;
  name: string;
  source: SourceKind;
  main_branch: string;
  folder: string;
  url: string | null;
  event_secret: Buffer | null;
  /** Encrypted; null where none is needed. */
  credential: Buffer | null;
  /** An owner lets its address lead into private networks. */
  private_allowed: boolean;
  /** The definition of commits that have none of their own. */
  draft: string | null;
  paused_at: Date | null;
  poll_issue: Issue | null;
  /** Where the states of its runs are told; null: nowhere. */
  status_url: string | null;
  status_issue: Issue | null;
  definition_commit: string | null;
  definition_run: number;
}

const columns =
  'id, name, source, main_branch, folder, url, event_secret, credential, private_allowed, draft, paused_at, poll_issue, status_url, status_issue, definition_commit, definition_run';

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
}

/** Null when the name is taken. */
export async function addProject(db: Db, project: NewProject, actor: string): Promise<ProjectRow | null> {
  const row = await db.one<ProjectRow>(
    `insert into projects (id, name, source, main_branch, folder, url, event_secret, credential, private_allowed, draft, poll_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, case when $3 = 'polled' then now() end) on conflict (name) do nothing returning ${columns}`,
    [
      newId(),
      project.name,
      project.source,
      project.mainBranch,
      project.folder,
      project.url,
      project.eventSecret,
      project.credential,
      project.privateAllowed,
      project.draft,
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

export const findProject = (db: Db, name: string): Promise<ProjectRow | null> =>
  db.one(`select ${columns} from projects where name = $1 and removed_at is null`, [name]);
export const projectById = async (db: Db, id: string): Promise<ProjectRow> => {
  const row = await db.one<ProjectRow>(`select ${columns} from projects where id = $1`, [id]);
  if (!row) throw new Error(`no project ${id}`);
  return row;
};
export const listProjects = (db: Db): Promise<ProjectRow[]> =>
  db.rows(`select ${columns} from projects where removed_at is null order by name`);

/** The next number of a kind of thing in a project; part of the transaction that uses it. */
export async function nextNumber(
  db: Db,
  project: string,
  kind: 'runs' | 'releases' | 'deployments' | 'variables',
): Promise<number> {
  const row = await db.one<{ number: number }>(
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
  await db.rows(
    'insert into definitions (project_id, commit, model, issues) values ($1, $2, $3, $4) on conflict (project_id, commit) do update set model = excluded.model, issues = excluded.issues',
    [project, commit, model === null ? null : json(model), json(issues)],
  );
}

export async function definitionOf(
  db: Db,
  project: string,
  commit: string,
): Promise<{ model: Definition | null; issues: DefinitionIssue[] } | null> {
  const row = await db.one<{ model: Definition | null; issues: DefinitionIssue[] }>(
    'select model, issues from definitions where project_id = $1 and commit = $2',
    [project, commit],
  );
  return row && { ...row, model: row.model && storedDefinition(row.model) };
}

/** The last valid definition of the main branch: what says where releases may go. */
export async function mainDefinition(db: Db, project: string): Promise<{ commit: string; model: Definition } | null> {
  const row = await db.one<{ commit: string; model: Definition }>(
    `select d.commit, d.model
     from projects p join definitions d on d.project_id = p.id and d.commit = p.definition_commit
     where p.id = $1 and d.model is not null`,
    [project],
  );
  return row && { ...row, model: storedDefinition(row.model) };
}

/** Takes a run's definition as the project's, unless a later run has given one already. Returns whether it did. */
export async function acceptDefinition(db: Db, project: string, commit: string, run: number): Promise<boolean> {
  const row = await db.one(
    'update projects set definition_commit = $2, definition_run = $3 where id = $1 and definition_run < $3 returning 1 as ok',
    [project, commit, run],
  );
  return row !== null;
}

/** A polled project whose turn it is; it is nobody else's for `leaseMs`. */
export const takePoll = (
  db: Db,
  leaseMs: number,
): Promise<(ProjectRow & { poll_failures: number; poll_fence: number }) | null> =>
  db.one(
    `update projects set poll_fence = poll_fence + 1, poll_at = now() + $1::int * interval '1 ms' where id = (
       select id from projects where poll_at <= now() and paused_at is null and removed_at is null order by poll_at limit 1 for update skip locked
     ) returning ${columns}, poll_failures, poll_fence`,
    [leaseMs],
  );

/** When it is looked at again, and why the last look failed; nothing where somebody else looks by now. */
export const settlePoll = (
  db: Db,
  { id, poll_fence }: { id: string; poll_fence: number },
  nextMs: number,
  failures: number,
  issue: Issue | null,
): Promise<unknown> =>
  db.rows(
    `update projects set poll_at = now() + $2::int * interval '1 ms', poll_failures = $3, poll_issue = $4 where id = $1 and poll_fence = $5`,
    [id, nextMs, failures, issue === null ? null : json(issue), poll_fence],
  );

export async function pollSoon(db: Db, id: string): Promise<void> {
  await db.rows(`update projects set poll_at = now() where id = $1 and source = 'polled'`, [id]);
  await notify(db, 'polls');
}

/** Milliseconds until the next look at a polled source. */
export const nextPoll = async (db: Db): Promise<number | null> =>
  (
    await db.one<{ ms: number | null }>(
      `select (extract(epoch from min(poll_at) - now()) * 1000)::float8 as ms from projects where poll_at is not null and paused_at is null and removed_at is null`,
    )
  )?.ms ?? null;

export const setDraft = (db: Db, id: string, text: string | null): Promise<unknown> =>
  db.rows('update projects set draft = $2 where id = $1', [id, text]);

/** Projects that were removed and of which nothing is live any more. */
export const removedProjects = (db: Db): Promise<Pick<ProjectRow, 'id'>[]> =>
  db.rows(
    `select id from projects p where removed_at is not null and not exists (select 1 from environments e where e.project_id = p.id and e.state <> 'closed')
       and not exists (select 1 from runs r where r.project_id = p.id and r.state in ('waiting', 'running'))`,
  );

/** A project whose states are to be told, and the number of the event up to which they were; nobody else's for `leaseMs`. */
export const takeStatus = (
  db: Db,
  leaseMs: number,
): Promise<(ProjectRow & { status_after: string; status_failures: number; status_fence: number }) | null> =>
  db.one(
    `update projects p set status_fence = status_fence + 1, status_due = now() + $1::int * interval '1 ms' where id = (
       select id from projects where status_url is not null and removed_at is null and status_due <= now() order by status_due limit 1 for update skip locked
     ) returning ${columns}, status_after, status_failures, status_fence`,
    [leaseMs],
  );

/** Up to which event was told, and when to go on: null until there is something new. */
export const settleStatus = (
  db: Db,
  { id, status_fence }: { id: string; status_fence: number },
  after: string,
  nextMs: number | null,
  failures: number,
  issue: Issue | null,
): Promise<unknown> =>
  db.rows(
    `update projects set status_after = $2, status_due = now() + $3::int * interval '1 ms', status_failures = $4, status_issue = $5 where id = $1 and status_fence = $6`,
    [id, after, nextMs, failures, issue === null ? null : json(issue), status_fence],
  );

/** From now on the states of its runs are told there. */
export const setStatusUrl = (db: Db, id: string, url: string | null): Promise<unknown> =>
  db.rows(
    `update projects set status_url = $2, status_after = (select coalesce(max(number), 0) from events), status_due = case when $2::text is null then null else now() end, status_failures = 0, status_issue = null where id = $1`,
    [id, url],
  );

/** Projects with something new to tell become due, unless they wait after a failure. */
export const wakeStatus = (db: Db): Promise<unknown> =>
  db.rows(
    `update projects p set status_due = now() where status_url is not null and status_due is null
       and exists (select 1 from events e where e.project_id = p.id and e.number > p.status_after and e.type in ('run.planned', 'run.ended'))`,
  );

export const nextStatus = async (db: Db): Promise<number | null> =>
  (
    await db.one<{ ms: number | null }>(
      `select (extract(epoch from min(status_due) - now()) * 1000)::float8 as ms from projects where status_url is not null and removed_at is null`,
    )
  )?.ms ?? null;
