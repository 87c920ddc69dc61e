import type { Coverage } from '../../core/results/coverage.js';
import { type Db, json, query } from '../database.js';

/** Keeps what an attempt has covered; told twice, the last counts. */
export const keepCoverage = (db: Db, attempt: string, { found, hit, files }: Coverage): Promise<unknown> =>
  query(
    db,
    `insert into coverage (attempt_id, found, hit, files) values ($1, $2, $3, $4)
     on conflict (attempt_id) do update set found = excluded.found, hit = excluded.hit, files = excluded.files`,
    [attempt, found, hit, json(files)],
  );

export interface TaskCoverage extends Coverage {
  task: string;
}

/** What the tasks of a run cover, by the attempts that count for them. */
export const coverageOfTasks = (db: Db, run: string): Promise<TaskCoverage[]> =>
  query(
    db,
    `select t.name as task, c.found, c.hit, c.files
     from tasks t join coverage c on c.attempt_id = t.attempt_id
     where t.run_id = $1 and t.state in ('passed', 'reused', 'failed')
     order by t.position`,
    [run],
  );
