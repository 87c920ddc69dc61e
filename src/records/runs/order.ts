/** Runs of one branch or pull request among each other: what a newer push does to the older ones. */
import { type Db, queryOne, query } from '../database.js';
import type { RunRow } from './runs.js';

/** The runs of the same place: a branch of the project's own, or a pull request. */
const placeOf = (run: Pick<RunRow, 'project_id' | 'branch' | 'pull_request'>) => [
  run.project_id,
  run.pull_request === null ? run.branch : null,
  run.pull_request,
];
const ofPlace = `project_id = $1 and (case when pull_request is null then branch end) is not distinct from $2 and pull_request is not distinct from $3 and (branch is not null or pull_request is not null)`;

/** Older runs of the place that were pushed and have not ended, the oldest first; their rows are locked. */
export const olderOpenRuns = (
  db: Db,
  run: Pick<RunRow, 'project_id' | 'branch' | 'pull_request' | 'number'>,
): Promise<{ id: string; number: number; state: string }[]> =>
  query(
    db,
    `select id, number, state from runs
     where ${ofPlace}
       and number < $4
       and state in ('waiting', 'running')
       and cause in ('push', 'pull request')
       and superseded_by is null
     order by id for update`,
    [...placeOf(run), run.number],
  );

/** A run of the place that runs and goes before this one, or null. */
export const runBefore = (
  db: Db,
  run: Pick<RunRow, 'project_id' | 'branch' | 'pull_request' | 'number'>,
): Promise<{ number: number } | null> =>
  queryOne(
    db,
    `select number from runs
     where ${ofPlace}
       and number < $4
       and state = 'running'
     order by number desc limit 1`,
    [...placeOf(run), run.number],
  );

export const setSuperseded = (db: Db, runs: readonly string[], by: number): Promise<unknown> =>
  query(db, 'update runs set superseded_by = $2, due_at = now() where id = any($1::uuid[])', [runs, by]);

/** Runs of its place may be waiting for this one to end. */
export const wakeWaitingRun = (db: Db, run: string): Promise<unknown> => query(db, 'select wake_waiting($1)', [run]);

/**
 * SQL: a run that says how its branch is. One that a person asked for counts where it is of the branch's recorded head; of an older commit
 * it says nothing of the newest.
 * @param run the alias of its row
 */
export const ofTheHead = (run: string): string =>
  `(${run}.cause <> 'asked' or ${run}.commit = (select b.head from branches b where b.project_id = ${run}.project_id and b.name = ${run}.branch))`;
