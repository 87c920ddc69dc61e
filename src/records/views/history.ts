/** What earlier runs of a project tell about a task. */
import type { Issue } from '../../core/errors/errors.js';
import type { TestResults } from '../../core/results/model.js';
import type { TaskState } from '../../core/states.js';
import { type Db, queryOne, query } from '../database.js';

/** How many runs are looked back on. */
const lookBack = 200;

/** Milliseconds that tasks of these names take: the median of their last five passes; names without one are left out. */
export async function expectedTimes(db: Db, project: string, names: readonly string[]): Promise<Map<string, number>> {
  const rows = await query<{ name: string; ms: number | null }>(
    db,
    `select n.name, (
       select percentile_cont(0.5) within group (order by ms) from (
         select extract(epoch from a.ended_at - a.started_at) * 1000 as ms
         from (select id from runs where project_id = $1 order by id desc limit ${lookBack}) r
           join tasks t on t.run_id = r.id and t.name = n.name and t.state = 'passed' join attempts a on a.id = t.attempt_id and a.state = 'passed'
         order by r.id desc limit 5) past)::float8 as ms
     from unnest($2::text[]) as n(name)`,
    [project, names],
  );
  return new Map(rows.flatMap((row) => (row.ms === null ? [] : [[row.name, Math.round(row.ms)] as const])));
}

export interface LastTask {
  run: number;
  commit: string;
  state: TaskState;
  fingerprint: string;
  inputs: Record<string, unknown>;
  reads: string[] | null;
}

/** The newest task of this name that has a fingerprint and has ended, before a run (null: of all). */
export const lastTask = (
  db: Db,
  project: string,
  name: string,
  before: string | null = null,
): Promise<LastTask | null> =>
  queryOne(
    db,
    `select r.number as run, r.commit, t.state, t.fingerprint, t.inputs, t.model->'reads' as reads
     from (select id, number, commit from runs where project_id = $1 and ($3::uuid is null or id < $3) order by id desc limit ${lookBack}) r
       join tasks t on t.run_id = r.id and t.name = $2 where t.fingerprint is not null and t.ended_at is not null order by r.id desc limit 1`,
    [project, name, before],
  );

export interface PassedRun {
  id: string;
  number: number;
  commit: string;
}

/** The newest run before this one that passed: of its branch, else of the main branch. */
export const lastPassedRun = (
  db: Db,
  project: string,
  before: string,
  branches: readonly string[],
): Promise<PassedRun | null> =>
  queryOne(
    db,
    `select id, number, commit from (select * from runs where project_id = $1 and id < $2 order by id desc limit ${lookBack}) r
     where state = 'passed' and pull_request is null and branch = any($3::text[]) order by array_position($3::text[], branch), id desc limit 1`,
    [project, before, branches],
  );

export interface PastCases {
  run: number;
  state: TaskState;
  flaky: boolean;
  tests: TestResults | null;
  issue: Issue | null;
}

/** The results of the task of this name in the runs before one, the newest first. */
export const pastTests = (db: Db, project: string, name: string, before: string, limit: number): Promise<PastCases[]> =>
  query(
    db,
    `select r.number as run, t.state, t.flaky, t.tests, t.issue
     from (select id, number from runs where project_id = $1 and id < $2 order by id desc limit ${lookBack}) r
       join tasks t on t.run_id = r.id and t.name = $3 where t.state in ('passed', 'reused', 'failed') order by r.id desc limit $4`,
    [project, before, name, limit],
  );

/** Numbers of the runs for which attempts were made. */
export async function runsOfAttempts(db: Db, attempts: readonly string[]): Promise<Map<string, number>> {
  if (attempts.length === 0) return new Map();
  const rows = await query<{ id: string; number: number }>(
    db,
    `select a.id, r.number from attempts a
       join tasks t on t.id = a.task_id
       join runs r on r.id = t.run_id
     where a.id = any($1::uuid[])`,
    [attempts],
  );
  return new Map(rows.map((row) => [row.id, row.number]));
}

/** What a run came to for a task of a commit: how the task ended, or that the run did without telling. */
export interface JudgedRun {
  commit: string;
  run: number;
  verdict: 'passed' | 'failed' | 'untold' | 'going';
}

/** Runs of these commits of the project's own, the oldest first, by what a declared task (all its shards) came to in them. */
export const runsOfTask = (db: Db, project: string, commits: readonly string[], task: string): Promise<JudgedRun[]> =>
  query(
    db,
    `select r.commit, r.number as run,
       case when bool_or(t.state = 'failed') then 'failed'
         when count(t.id) > 0 and bool_and(t.state in ('passed', 'reused')) then 'passed'
         when r.ended_at is not null then 'untold' else 'going' end as verdict
     from runs r left join tasks t on t.run_id = r.id and (t.name = $3 or t.model->>'of' = $3)
     where r.project_id = $1 and r.commit = any($2::text[]) and r.line = 'own'
     group by r.id
     order by r.number`,
    [project, commits, task],
  );
