import type { Task } from '../core/definition/model.js';
import type { PinnedSet } from '../core/variables/task.js';
import type { Issue } from '../core/errors/errors.js';
import type { TestResults } from '../core/results/model.js';
import type { RunState, TaskState } from '../core/states.js';
import { json, type Db, notify } from './database.js';
import { newId } from './ids.js';

export interface RunRow {
  id: string;
  project_id: string;
  number: number;
  commit: string;
  branch: string | null;
  pull_request: number | null;
  line: string;
  state: RunState;
  cause: string;
  actor: string;
  allowed: boolean;
  stopped_by: string | null;
  issue: Issue | null;
  warnings: Issue[];
  released: boolean;
  /** Declared names of tasks whose earlier passes do not count; an empty list: no task's do; null: all do. */
  fresh: string[] | null;
  /** Number of the run that took its place. */
  superseded_by: number | null;
  /** When its logs and outputs were let go. */
  trimmed_at: Date | null;
  planned_at: Date | null;
  created_at: Date;
  started_at: Date | null;
  ended_at: Date | null;
}

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

const runColumns =
  'id, project_id, number, commit, branch, pull_request, line, state, cause, actor, allowed, stopped_by, issue, warnings, released, fresh, superseded_by, trimmed_at, planned_at, created_at, started_at, ended_at';
const taskColumns =
  'id, run_id, name, position, state, evidence, model, files, pinned, fingerprint, attempt_id, flaky, output, output_size::float8 as output_size, tests, issue, started_at, ended_at';

export type WorkTable = 'runs' | 'deployments' | 'environments';

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
  db.one(
    `update ${table} set due_at = now() + $1::int * interval '1 ms' where id = (select id from ${table} where due_at <= now() order by due_at for update skip locked limit 1)
     returning id, due_at::text as stamp`,
    [leaseMs],
  );

/** Milliseconds until the next row is due, or null when none is. */
export const nextDue = async (db: Db, table: WorkTable): Promise<number | null> =>
  (
    await db.one<{ ms: number | null }>(
      `select (extract(epoch from min(due_at) - now()) * 1000)::float8 as ms from ${table} where due_at is not null`,
    )
  )?.ms ?? null;

/** Puts a row on the work list; first thing in a transaction that changes what belongs to it, which gives all of them one order of locks. */
export async function makeDue(db: Db, table: WorkTable, id: string): Promise<void> {
  await db.rows(`update ${table} set due_at = now() where id = $1`, [id]);
  await notify(db, table);
}

/** Sets when a row is due again, `null` for only when something happens. */
export const setDue = (db: Db, table: WorkTable, id: string, inMs: number | null): Promise<unknown> =>
  db.rows(
    `update ${table} set due_at = case when $2::float8 is null then null else now() + $2::float8 * interval '1 ms' end where id = $1`,
    [id, inMs],
  );

/** The same for a row that was taken, unless somebody has woken it since: what it was woken for was not seen yet. */
export const settleDue = (db: Db, table: WorkTable, due: Due, inMs: number | null): Promise<unknown> =>
  db.rows(
    `update ${table} set due_at = case when $3::float8 is null then null else now() + $3::float8 * interval '1 ms' end where id = $1 and due_at = $2::timestamptz`,
    [due.id, due.stamp, inMs],
  );

/** Counts one more beginning of planning; gives how many there were. */
export const beginPlanning = async (db: Db, run: string): Promise<number> =>
  (
    await db.one<{ tries: number }>(
      'update runs set planning_tries = planning_tries + 1 where id = $1 returning planning_tries as tries',
      [run],
    )
  )?.tries ?? 0;

/** It came to an end, whatever that was. */
export const planningOver = (db: Db, run: string): Promise<unknown> =>
  db.rows('update runs set planning_tries = 0 where id = $1', [run]);

export const lockRun = (db: Db, id: string): Promise<RunRow | null> =>
  db.one(`select ${runColumns} from runs where id = $1 for update`, [id]);
export const runById = (db: Db, id: string): Promise<RunRow | null> =>
  db.one(`select ${runColumns} from runs where id = $1`, [id]);
export const findRun = (db: Db, project: string, number: number): Promise<RunRow | null> =>
  db.one(`select ${runColumns} from runs where project_id = $1 and number = $2`, [project, number]);
export const tasksOf = (db: Db, run: string): Promise<TaskRow[]> =>
  db.rows(`select ${taskColumns} from tasks where run_id = $1 order by position`, [run]);
export const taskById = (db: Db, id: string): Promise<TaskRow | null> =>
  db.one(`select ${taskColumns} from tasks where id = $1`, [id]);

export interface NewTask {
  name: string;
  position: number;
  evidence: boolean;
  model: Task;
  files: { key: string; count: number };
  pinned: PinnedFacts;
}

/** The run begins: its tasks are recorded, still waiting. */
export async function startRun(
  db: Db,
  run: string,
  tasks: readonly NewTask[],
  warnings: readonly Issue[],
): Promise<void> {
  await db.rows(
    `insert into tasks (id, run_id, name, position, evidence, model, files, pinned)
     select t.id, $1, t.name, t.position, t.evidence, t.model, t.files, t.pinned
     from jsonb_to_recordset($2::jsonb) as t(id uuid, name text, position int, evidence boolean, model jsonb, files jsonb, pinned jsonb)`,
    [run, json(tasks.map((task) => ({ id: newId(), ...task })))],
  );
  await db.rows(
    `update runs set state = 'running', planned_at = now(), started_at = now(), issue = null, tasks_total = $2, warnings = $3 where id = $1`,
    [run, tasks.length, json(warnings)],
  );
}

export async function endRun(db: Db, run: string, state: RunState, issue: Issue | null): Promise<void> {
  await db.rows(
    'update runs set state = $2, issue = coalesce($3, issue), ended_at = now(), due_at = null where id = $1',
    [run, state, issue === null ? null : json(issue)],
  );
}

/** What a waiting run waits for. */
export const setRunIssue = (db: Db, run: string, issue: Issue | null): Promise<unknown> =>
  db.rows('update runs set issue = $2 where id = $1', [run, issue === null ? null : json(issue)]);

/** Runs for which these attempts work, and their own, by their ids; locked when that is asked. */
export const runsServedBy = (
  db: Db,
  attempts: readonly string[],
  own: string,
  lock: boolean,
): Promise<{ id: string; project_id: string; commit: string }[]> =>
  db.rows(
    `select id, project_id, commit from runs
     where id = $2 or id in (select run_id from tasks where attempt_id = any($1::uuid[]) and state in ('ready', 'running'))
     order by id ${lock ? 'for update' : ''}`,
    [attempts, own],
  );

/** Asks a run to stop. False when it has ended. */
export async function askStop(db: Db, run: string, who: string): Promise<boolean> {
  const row = await db.one(
    `update runs set stopped_by = coalesce(stopped_by, $2), due_at = now() where id = $1 and state in ('waiting', 'running') returning 1 as ok`,
    [run, who],
  );
  if (!row) return false;
  await stopWork(db, run);
  return true;
}

/** Tells the agents to stop what they do for this run alone. */
export async function stopWork(db: Db, run: string): Promise<void> {
  await db.rows(
    `update attempts set stop = true where state in ('waiting', 'running') and id in (select attempt_id from tasks where run_id = $1)
       and not exists (select 1 from tasks t where t.attempt_id = attempts.id and t.run_id <> $1 and t.state in ('ready', 'running'))`,
    [run],
  );
  await notify(db, 'runs', 'work');
}

/** Allows an untrusted commit to run. */
export const allowCommit = (db: Db, project: string, commit: string): Promise<{ id: string; number: number }[]> =>
  db.rows(
    `update runs set allowed = true, due_at = now(), issue = null where project_id = $1 and commit = $2 and not allowed and state = 'waiting' returning id, number`,
    [project, commit],
  );

/** Adds what is to be looked at in the definition, found later than its own check. */
export const addWarnings = (db: Db, run: string, warnings: readonly Issue[]): Promise<unknown> =>
  db.rows('update runs set warnings = warnings || $2::jsonb where id = $1', [run, json(warnings)]);
