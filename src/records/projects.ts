import type { Definition } from '../core/definition/model.js';
import type { DefinitionIssue } from '../core/definition/parse.js';
import type { SourceKind } from '../core/states.js';
import type { Db } from './database.js';
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
  definition_commit: string | null;
  definition_run: number;
}

const columns = 'id, name, source, main_branch, folder, url, event_secret, definition_commit, definition_run';

export interface NewProject {
  name: string;
  source: SourceKind;
  mainBranch: string;
  folder: string;
  url: string | null;
  eventSecret: Buffer | null;
}

/** Null when the name is taken. */
export async function addProject(db: Db, project: NewProject, actor: string): Promise<ProjectRow | null> {
  const row = await db.one<ProjectRow>(
    `insert into projects (id, name, source, main_branch, folder, url, event_secret) values ($1, $2, $3, $4, $5, $6, $7) on conflict (name) do nothing returning ${columns}`,
    [newId(), project.name, project.source, project.mainBranch, project.folder, project.url, project.eventSecret],
  );
  if (row) await recordEvents(db, { type: 'project.added', project: row.id, subject: row.name, actor, data: { source: row.source } });
  return row;
}

export const findProject = (db: Db, name: string): Promise<ProjectRow | null> => db.one(`select ${columns} from projects where name = $1`, [name]);
export const projectById = async (db: Db, id: string): Promise<ProjectRow> => {
  const row = await db.one<ProjectRow>(`select ${columns} from projects where id = $1`, [id]);
  if (!row) throw new Error(`no project ${id}`);
  return row;
};
export const listProjects = (db: Db): Promise<ProjectRow[]> => db.rows(`select ${columns} from projects order by name`);

/** The next number of a kind of thing in a project; part of the transaction that uses it. */
export async function nextNumber(db: Db, project: string, kind: 'runs' | 'releases' | 'deployments'): Promise<number> {
  const row = await db.one<{ number: number }>(`update projects set ${kind} = ${kind} + 1 where id = $1 returning ${kind} as number`, [project]);
  if (!row) throw new Error(`no project ${project}`);
  return row.number;
}

export async function saveDefinition(db: Db, project: string, commit: string, model: Definition | null, issues: readonly DefinitionIssue[]): Promise<void> {
  await db.rows(
    'insert into definitions (project_id, commit, model, issues) values ($1, $2, $3, $4) on conflict (project_id, commit) do update set model = excluded.model, issues = excluded.issues',
    [project, commit, model === null ? null : JSON.stringify(model), JSON.stringify(issues)],
  );
}

export const definitionOf = (db: Db, project: string, commit: string): Promise<{ model: Definition | null; issues: DefinitionIssue[] } | null> =>
  db.one('select model, issues from definitions where project_id = $1 and commit = $2', [project, commit]);

/** The last valid definition of the main branch: what says where releases may go. */
export const mainDefinition = (db: Db, project: string): Promise<{ commit: string; model: Definition } | null> =>
  db.one(
    'select d.commit, d.model from projects p join definitions d on d.project_id = p.id and d.commit = p.definition_commit where p.id = $1 and d.model is not null',
    [project],
  );

/** Takes a run's definition as the project's, unless a later run has given one already. Returns whether it did. */
export async function acceptDefinition(db: Db, project: string, commit: string, run: number): Promise<boolean> {
  const row = await db.one('update projects set definition_commit = $2, definition_run = $3 where id = $1 and definition_run < $3 returning 1 as ok', [
    project,
    commit,
    run,
  ]);
  return row !== null;
}
