/** What fingerprints came to, kept by trust scope. */
import type { TestResults } from '../../core/results/model.js';
import { type Db, queryOne, query } from '../database.js';

export interface PassedResult {
  fingerprint: string;
  attempt_id: string;
  /** Number of the attempt. */
  number: number;
  output: string | null;
  output_size: number | null;
  tests: TestResults | null;
  at: Date;
  /** The run that it comes from. */
  run: number;
}

/** Trust lines that a line may read: its own, and the project's. */
export const readableLines = (line: string): string[] => (line === 'own' ? ['own'] : [line, 'own']);

/** The newest pass of each fingerprint that has no failure beside it. */
export const findPasses = (
  db: Db,
  project: string,
  line: string,
  fingerprints: readonly string[],
): Promise<PassedResult[]> =>
  query(db, 'select * from find_passes($1, $2::text[], $3::text[])', [project, readableLines(line), fingerprints]);

/** Attempts that passed with this fingerprint on a line that may be read. */
export const passesOf = async (db: Db, project: string, line: string, fingerprint: string): Promise<string[]> =>
  (
    await query<{ attempt_id: string }>(
      db,
      `select attempt_id from results
       where project_id = $1
         and line = any($2::text[])
         and fingerprint = $3
         and state = 'passed'`,
      [project, readableLines(line), fingerprint],
    )
  ).map((row) => row.attempt_id);

/** The newest run in which this fingerprint failed on a line that may be read, or null. */
export const failedRun = async (db: Db, project: string, line: string, fingerprint: string): Promise<number | null> =>
  (
    await queryOne<{ run: number }>(
      db,
      `select runs.number as run from results r join attempts a on a.id = r.attempt_id join tasks t on t.id = a.task_id join runs on runs.id = t.run_id
       where r.project_id = $1 and r.line = any($2::text[]) and r.fingerprint = $3 and r.state = 'failed' order by r.at desc limit 1`,
      [project, readableLines(line), fingerprint],
    )
  )?.run ?? null;
