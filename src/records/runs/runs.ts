import type { InferAttributes } from 'sequelize';
import type { Run } from '../models/runs/runs.js';
import type { Task } from '../../core/definition/model.js';
import type { PinnedSet } from '../../core/variables/task.js';
import type { Issue } from '../../core/errors/errors.js';
import type { TestResults } from '../../core/results/model.js';
import type { RunState, TaskState } from '../../core/states.js';
import { json, type Db, notify, queryOne, query, tables } from '../database.js';
import { newId } from '../ids.js';

const runColumns = [
  'id',
  'project_id',
  'number',
  'commit',
  'branch',
  'pull_request',
  'line',
  'state',
  'cause',
  'actor',
  'allowed',
  'stopped_by',
  'issue',
  'warnings',
  'released',
  'fresh',
  'superseded_by',
  'trimmed_at',
  'planned_at',
  'created_at',
  'started_at',
  'ended_at',
] as const satisfies readonly (keyof InferAttributes<Run>)[];

export type RunRow = Pick<InferAttributes<Run>, (typeof runColumns)[number]>;

/** What a task is pinned to when its run is planned. */
export interface PinnedFacts {
  versions: Record<string, string>;
  base: string;
  resources?: Record<string, string>;
  set?: PinnedSet;
}

export interface TaskRow {
  id: string;
  run_id: string;
  name: string;
  position: number;
  state: TaskState;
  evidence: boolean;
  model: Task;
  /** What identifies the set of files that it sees. */
  files: { key: string; count: number };
  pinned: PinnedFacts;
  fingerprint: string | null;
  /** The attempt that its result comes from, or that works for it now: its own, or one of another run. */
  attempt_id: string | null;
  flaky: boolean;
  output: string | null;
  output_size: number | null;
  tests: TestResults | null;
  issue: Issue | null;
  started_at: Date | null;
  ended_at: Date | null;
}

const taskColumns =
  'id, run_id, name, position, state, evidence, model, files, pinned, fingerprint, attempt_id, flaky, output, output_size::float8 as output_size, tests, issue, started_at, ended_at';

export type WorkTable = 'runs' | 'deployments' | 'environments' | 'joints';

/** A row that was taken off the work list, and the time that was written there: whoever wakes it writes another. */
export interface Due {
  id: string;
  stamp: string;
}

/**
 * Takes a row of the engine's work list for `leaseMs`: it is put off at once, so that who dies with it leaves it to the next,
 * and no transaction stays open while git is read.
 */
export const takeDue = (db: Db, table: WorkTable, leaseMs: number): Promise<Due | null> =>
  queryOne(
    db,
    `update ${table} set due_at = now() + $1::int * interval '1 ms' where id = (select id from ${table} where due_at <= now() order by due_at for update skip locked limit 1)
     returning id, due_at::text as stamp`,
    [leaseMs],
  );

/** Milliseconds until the next row is due, or null when none is. */
export const nextDue = async (db: Db, table: WorkTable): Promise<number | null> =>
  (
    await queryOne<{ ms: number | null }>(
      db,
      `select (extract(epoch from min(due_at) - now()) * 1000)::float8 as ms
       from ${table}
       where due_at is not null`,
    )
  )?.ms ?? null;

/** Puts a row on the work list; first thing in a transaction that changes what belongs to it, which gives all of them one order of locks. */
export async function makeDue(db: Db, table: WorkTable, id: string): Promise<void> {
  await query(db, `update ${table} set due_at = now() where id = $1`, [id]);
  await notify(db, table);
}

/** Sets when a row is due again, `null` for only when something happens. */
export const setDue = (db: Db, table: WorkTable, id: string, inMs: number | null): Promise<unknown> =>
  query(
    db,
    `update ${table}
     set due_at = case when $2::float8 is null then null else now() + $2::float8 * interval '1 ms' end
     where id = $1`,
    [id, inMs],
  );

/** Due in so long, or sooner where it is so already; null: as it is. */
export const dueBy = async (db: Db, table: WorkTable, id: string, inMs: number | null): Promise<void> => {
  if (inMs === null) return;
  await query(
    db,
    `update ${table} set due_at = least(coalesce(due_at, 'infinity'), now() + $2::float8 * interval '1 ms') where id = $1`,
    [id, inMs],
  );
  if (inMs === 0) await notify(db, table);
};

/** When a row that was taken is due again, unless somebody has woken it since: what it was woken for was not seen yet. */
export const settleDue = (db: Db, table: WorkTable, due: Due, inMs: number | null): Promise<unknown> =>
  query(
    db,
    `update ${table}
     set due_at = case when $3::float8 is null then null else now() + $3::float8 * interval '1 ms' end
     where id = $1
       and due_at = $2::timestamptz`,
    [due.id, due.stamp, inMs],
  );

/** Counts one more beginning of planning; gives how many there were. */
export const beginPlanning = async (db: Db, run: string): Promise<number> =>
  (
    await queryOne<{ tries: number }>(
      db,
      'update runs set planning_tries = planning_tries + 1 where id = $1 returning planning_tries as tries',
      [run],
    )
  )?.tries ?? 0;

/** It came to an end, whatever that was. */
export async function planningOver(db: Db, run: string): Promise<void> {
  const { Run, in: within } = tables(db);
  await Run.update({ planning_tries: 0 }, { where: { id: run }, ...within });
}

export async function lockRun(db: Db, id: string): Promise<RunRow | null> {
  const { Run, in: within } = tables(db);
  return Run.findByPk(id, { attributes: [...runColumns], lock: true, raw: true, ...within });
}

export async function runById(db: Db, id: string): Promise<RunRow | null> {
  const { Run, in: within } = tables(db);
  return Run.findByPk(id, { attributes: [...runColumns], raw: true, ...within });
}

export async function findRun(db: Db, project: string, number: number): Promise<RunRow | null> {
  const { Run, in: within } = tables(db);
  return Run.findOne({ attributes: [...runColumns], where: { project_id: project, number }, raw: true, ...within });
}

export const tasksOf = (db: Db, run: string): Promise<TaskRow[]> =>
  query(db, `select ${taskColumns} from tasks where run_id = $1 order by position`, [run]);
export const taskById = (db: Db, id: string): Promise<TaskRow | null> =>
  queryOne(db, `select ${taskColumns} from tasks where id = $1`, [id]);

export interface NewTask {
  name: string;
  position: number;
  evidence: boolean;
  model: Task;
  files: { key: string; count: number };
  pinned: PinnedFacts;
}

/** The run begins: its tasks are recorded, still waiting. Gives what it is now. */
export async function startRun(
  db: Db,
  run: string,
  tasks: readonly NewTask[],
  warnings: readonly Issue[],
): Promise<{ row: RunRow; rows: TaskRow[]; version: string }> {
  const rows = await query<TaskRow>(
    db,
    `insert into tasks (id, run_id, name, position, evidence, model, files, pinned)
     select t.id, $1, t.name, t.position, t.evidence, t.model, t.files, t.pinned
     from jsonb_to_recordset($2::jsonb) as t(id uuid, name text, position int, evidence boolean, model jsonb, files jsonb, pinned jsonb)
     returning ${taskColumns}`,
    [run, json(tasks.map((task) => ({ id: newId(), ...task })))],
  );
  const begun = await queryOne<RunRow & { version: string }>(
    db,
    `update runs
     set state = 'running', planned_at = now(), started_at = now(), issue = null, unplaced_at = null, tasks_total = $2,
       warnings = $3
     where id = $1
     returning ${runColumns.join(', ')}, version::text as version`,
    [run, tasks.length, json(warnings)],
  );
  if (!begun) throw new Error(`no run ${run}`);
  const { version, ...row } = begun;
  return { row, rows: rows.sort((a, b) => a.position - b.position), version };
}

export async function endRun(db: Db, run: string, state: RunState, issue: Issue | null): Promise<void> {
  await query(
    db,
    'update runs set state = $2, issue = coalesce($3, issue), ended_at = now(), due_at = null where id = $1',
    [run, state, issue === null ? null : json(issue)],
  );
}

/** Ends what of its tasks has not ended: nothing of it runs any more, or is about to. */
export async function stopTasks(db: Db, run: string): Promise<void> {
  await stopWork(db, run);
  await query(
    db,
    `update tasks set state = 'stopped', ended_at = now() where run_id = $1 and state in ('waiting', 'ready', 'running')`,
    [run],
  );
  await query(db, 'update runs set tasks_ended = tasks_total where id = $1', [run]);
}

/** What a waiting run waits for. */
export async function setRunIssue(db: Db, run: string, issue: Issue | null): Promise<void> {
  const { Run, in: within } = tables(db);
  await Run.update({ issue, unplaced_at: null }, { where: { id: run }, ...within });
}

/** No agent can take it, and why; since when that is so. */
export async function setUnplaced(db: Db, run: string, issue: Issue, now: number): Promise<Date> {
  const row = await queryOne<{ unplaced_at: Date }>(
    db,
    'update runs set issue = $2, unplaced_at = coalesce(unplaced_at, $3) where id = $1 returning unplaced_at',
    [run, json(issue), new Date(now)],
  );
  if (!row) throw new Error(`no run ${run}`);
  return row.unplaced_at;
}

/** Runs for which these attempts work, and their own, by their ids; locked when that is asked. */
export const runsServedBy = (
  db: Db,
  attempts: readonly string[],
  own: string,
  lock: boolean,
): Promise<{ id: string; project_id: string; commit: string }[]> =>
  query(
    db,
    `select id, project_id, commit from runs
     where id = any(array(select $2::uuid union select run_id from tasks where attempt_id = any($1::uuid[]) and state in ('ready', 'running')))
     order by id ${lock ? 'for update' : ''}`,
    [attempts, own],
  );

/** Asks a run to stop. False when it has ended. */
export async function askStop(db: Db, run: string, who: string): Promise<boolean> {
  const row = await queryOne(
    db,
    `update runs set stopped_by = coalesce(stopped_by, $2), due_at = now()
     where id = $1
       and state in ('waiting', 'running')
     returning 1 as ok`,
    [run, who],
  );
  if (!row) return false;
  await stopWork(db, run);
  return true;
}

/** Tells the agents to stop what they do for this run alone. Part of a transaction. */
export async function stopWork(db: Db, run: string): Promise<void> {
  // Who joins one of these attempts locks its row. So they are locked first, and whom they work for is asked in a statement of its own:
  // the snapshot of one that had waited for the lock would not show the run that joined.
  await query(
    db,
    `select 1 from attempts where state in ('waiting', 'running') and id in (select attempt_id from tasks where run_id = $1)
     order by id for update`,
    [run],
  );
  await query(
    db,
    `update attempts set stop = true where state in ('waiting', 'running') and id in (select attempt_id from tasks where run_id = $1)
       and not exists (select 1 from tasks t where t.attempt_id = attempts.id and t.run_id <> $1 and t.state in ('ready', 'running'))`,
    [run],
  );
  await notify(db, 'runs', 'work');
}

/** Allows an untrusted commit to run. */
export const allowCommit = (
  db: Db,
  project: string,
  commit: string,
): Promise<{ id: string; number: number; pull_request: number | null }[]> =>
  query(
    db,
    `update runs set allowed = true, due_at = now(), issue = null
     where project_id = $1
       and commit = $2
       and not allowed
       and state = 'waiting'
     returning id, number, pull_request`,
    [project, commit],
  );

/** Whether a developer has allowed this very commit before. */
export const wasAllowed = async (db: Db, project: string, commit: string): Promise<boolean> =>
  (await tables(db).Run.count({ where: { project_id: project, commit, allowed: true }, ...tables(db).in })) > 0;

/** Adds what is to be looked at in the definition, found later than its own check. */
export const addWarnings = (db: Db, run: string, warnings: readonly Issue[]): Promise<unknown> =>
  query(db, 'update runs set warnings = warnings || $2::jsonb where id = $1', [run, json(warnings)]);

/** Runs of a project that are not over, or those of them that are as told; their ids, in order. */
export async function openRuns(
  db: Db,
  project: string,
  such: { pull_request?: number; state?: RunState } = {},
): Promise<string[]> {
  const { Run, in: within } = tables(db);
  const found = await Run.findAll({
    attributes: ['id'],
    where: { project_id: project, state: ['waiting', 'running'], ...such },
    order: ['id'],
    raw: true,
    ...within,
  });
  return found.map((row) => row.id);
}

/** The inputs of a task's fingerprint, as they were recorded. */
export async function inputsOf(db: Db, task: string): Promise<Record<string, unknown> | null> {
  const { Task: Tasks, in: within } = tables(db);
  return (await Tasks.findByPk(task, { attributes: ['inputs'], raw: true, ...within }))?.inputs ?? null;
}

/** What the newest run of a commit was for. */
export const newestRunOf = (
  db: Db,
  project: string,
  commit: string,
): Promise<{ pull_request: number | null; line: string } | null> => {
  const { Run, in: within } = tables(db);
  return Run.findOne({
    attributes: ['pull_request', 'line'],
    where: { project_id: project, commit },
    order: [['number', 'desc']],
    raw: true,
    ...within,
  });
};

/** Whether a commit is the head of a trusted pull request, or ran as one of the project's own. */
export const isKnownOwn = async (db: Db, project: string, commit: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from pull_requests where project_id = $1 and head = $2 and trusted
     union all
     select 1 from runs where project_id = $1 and commit = $2 and line = 'own'
     limit 1`,
    [project, commit],
  )) !== null;

/** The exact versions of tools that tasks of a run were pinned to. */
export async function toolsOfRun(db: Db, run: string | null): Promise<Record<string, string>> {
  if (run === null) return {};
  const row = await queryOne<{ tools: Record<string, string> | null }>(
    db,
    `select jsonb_object_agg(v.key, v.value) as tools from (
       select distinct on (v.key) v.key, v.value from tasks t, jsonb_each_text(t.pinned->'versions') v
       where t.run_id = $1 order by v.key, t.position) v`,
    [run],
  );
  return row?.tools ?? {};
}
