/** What fingerprints came to, kept by trust line. */
import type { TestResults } from '../core/results/junit.js';
import { json, type Db } from './database.js';

export interface NewResult {
  project: string;
  line: string;
  fingerprint: string;
  attempt: string;
  state: 'passed' | 'failed';
  output: { digest: string; size: number } | null;
  tests: TestResults | null;
}

export const keepResult = (db: Db, { project, line, fingerprint, attempt, state, output, tests }: NewResult): Promise<unknown> =>
  db.rows(
    'insert into results (project_id, line, fingerprint, attempt_id, state, output, output_size, tests) values ($1, $2, $3, $4, $5, $6, $7, $8) on conflict do nothing',
    [project, line, fingerprint, attempt, state, output?.digest ?? null, output?.size ?? null, tests === null ? null : json(tests)],
  );

export interface PassedResult {
  fingerprint: string;
  attempt_id: string;
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
export const findPasses = (db: Db, project: string, line: string, fingerprints: readonly string[]): Promise<PassedResult[]> =>
  db.rows(
    `select distinct on (r.fingerprint) r.fingerprint, r.attempt_id, r.output, r.output_size::float8 as output_size, r.tests, r.at, runs.number as run
     from results r join attempts a on a.id = r.attempt_id join tasks t on t.id = a.task_id join runs on runs.id = t.run_id
     where r.project_id = $1 and r.line = any($2::text[]) and r.fingerprint = any($3::text[]) and r.state = 'passed'
       and not exists (select 1 from results f where f.project_id = $1 and f.line = any($2::text[]) and f.fingerprint = r.fingerprint and f.state = 'failed')
     order by r.fingerprint, r.at desc`,
    [project, readableLines(line), fingerprints],
  );

/** The newest run in which this fingerprint failed on a line that may be read, or null. */
export const failedRun = async (db: Db, project: string, line: string, fingerprint: string): Promise<number | null> =>
  (
    await db.one<{ run: number }>(
      `select runs.number as run from results r join attempts a on a.id = r.attempt_id join tasks t on t.id = a.task_id join runs on runs.id = t.run_id
       where r.project_id = $1 and r.line = any($2::text[]) and r.fingerprint = $3 and r.state = 'failed' order by r.at desc limit 1`,
      [project, readableLines(line), fingerprint],
    )
  )?.run ?? null;

export interface OpenAttempt {
  fingerprint: string;
  attempt_id: string;
  state: 'waiting' | 'running';
}

/**
 * Attempts under way for these fingerprints on this line. Whoever makes one holds the fingerprints' locks until its commit, so that
 * two runs that need the same at once share one attempt.
 */
export async function findOpenAttempts(db: Db, project: string, line: string, fingerprints: readonly string[]): Promise<OpenAttempt[]> {
  await db.rows('select pg_advisory_xact_lock(hashtextextended(one, 7)) from unnest($1::text[]) one order by one', [
    [...fingerprints].sort().map((one) => `${project} ${line} ${one}`),
  ]);
  return db.rows(
    `select t.fingerprint, a.id as attempt_id, a.state from tasks t join runs r on r.id = t.run_id join attempts a on a.id = t.attempt_id
     where r.project_id = $1 and r.line = $2 and t.fingerprint = any($3::text[]) and t.state in ('ready', 'running') and a.state in ('waiting', 'running') and not a.stop
     order by a.created_at for share of a`,
    [project, line, fingerprints],
  );
}

/** No pass with these bytes counts any more: they are gone or broken. */
export const forgetOutput = (db: Db, digest: string): Promise<unknown> => db.rows('delete from results where output = $1', [digest]);
