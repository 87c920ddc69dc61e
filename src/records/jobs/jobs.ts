/** Jobs: when each runs next, and how it went. */
import type { InferAttributes } from 'sequelize';
import { canonical } from '../../core/canonical.js';
import type { Schedule } from '../../core/calendar/schedule.js';
import type { Issue } from '../../core/errors/errors.js';
import type { AttemptState } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import type { Job } from '../models/jobs/jobs.js';

export type JobRow = InferAttributes<Job>;

const columns = 'id, environment_id, part, schedule, anchor_at, next_at, missed, created_at';

export const jobsOf = (db: Db, environment: string): Promise<JobRow[]> =>
  query(db, `select ${columns} from jobs where environment_id = $1 order by part`, [environment]);

export interface PlannedJob {
  part: string;
  schedule: Schedule;
  next: Date;
}

/** Jobs of what is live now; of one whose times are the same nothing changes. */
export async function putJobs(db: Db, environment: string, planned: readonly PlannedJob[]): Promise<void> {
  const before = new Map((await jobsOf(db, environment)).map((row) => [row.part, row]));
  for (const { part, schedule, next } of planned) {
    const row = before.get(part);
    before.delete(part);
    if (row && canonical(row.schedule) === canonical(schedule)) continue;
    await query(
      db,
      `insert into jobs (id, environment_id, part, schedule, next_at) values ($1, $2, $3, $4, $5)
       on conflict (environment_id, part) do update set schedule = excluded.schedule, anchor_at = now(), next_at = excluded.next_at, missed = 0`,
      [newId(), environment, part, json(schedule), next],
    );
  }
  for (const { id } of before.values()) await query(db, 'delete from jobs where id = $1', [id]);
  await notify(db, 'jobs');
}

export const removeJobsOf = (db: Db, environment: string): Promise<unknown> =>
  query(db, 'delete from jobs where environment_id = $1', [environment]);

/** Id and environment of the job that has been due for longest, without those of `except`. */
export const dueJob = (db: Db, except: readonly string[]): Promise<{ id: string; environment_id: string } | null> =>
  queryOne(
    db,
    `select j.id, j.environment_id from jobs j join environments e on e.id = j.environment_id
     where j.next_at <= now() and j.id <> all($1) and ${awake} order by j.next_at limit 1`,
    [except],
  );

/** Jobs of what sleeps wait: where they count as use they wake it, else they are made up for when somebody does. */
const awake = `e.state not in ('falling asleep', 'asleep', 'waking')`;

/** The same, locked, if it is still due. */
export const lockDueJob = (db: Db, id: string): Promise<JobRow | null> =>
  queryOne(db, `select ${columns} from jobs where id = $1 and next_at <= now() for update`, [id]);

export const nextJob = async (db: Db, except: readonly string[]): Promise<number | null> =>
  (
    await queryOne<{ ms: number | null }>(
      db,
      `select (extract(epoch from min(j.next_at) - now()) * 1000)::float8 as ms
       from jobs j join environments e on e.id = j.environment_id where j.id <> all($1) and ${awake}`,
      [except],
    )
  )?.ms ?? null;

export const setNext = (db: Db, id: string, next: Date, missed: number): Promise<unknown> =>
  query(db, 'update jobs set next_at = $2, missed = $3 where id = $1', [id, next, missed]);

export interface JobAttempt {
  id: string;
  number: number;
  state: AttemptState;
  deployment: number;
  release: number;
  issue: Issue | null;
  created_at: Date;
  started_at: Date | null;
  ended_at: Date | null;
}

/** How it went, the newest first. */
export const jobAttempts = (db: Db, environment: string, part: string, limit: number): Promise<JobAttempt[]> =>
  query(
    db,
    `select a.id, a.number, a.state, d.number as deployment, r.number as release, a.issue, a.created_at, a.started_at, a.ended_at
     from attempts a join deployments d on d.id = a.deployment_id join releases r on r.id = d.release_id
     where a.kind = 'job' and a.part = $2 and a.environment_id = $1 order by a.id desc limit $3`,
    [environment, part, limit],
  );

/** Those that ended so long ago that their log is gone too. */
export const dropOldJobAttempts = async (db: Db): Promise<void> => {
  const old = `select id from attempts where kind = 'job' and log_gone and ended_at < now() - interval '90 days'`;
  await query(db, `delete from commands where attempt_id in (${old})`);
  await query(db, `delete from attempts where id in (${old})`);
};

/** Jobs of an environment that run are told to stop. */
export const stopJobsOf = (db: Db, environment: string, part: string | null = null): Promise<unknown> =>
  query(
    db,
    `update attempts set stop = true where kind = 'job' and state in ('waiting', 'running') and ($2::text is null or part = $2)
       and environment_id = $1`,
    [environment, part],
  );

/** What an attempt is of, as events name it: `sailings/production digest`. */
export const jobOf = (db: Db, attempt: string): Promise<{ subject: string; number: number } | null> =>
  queryOne(
    db,
    `select p.name || '/' || e.name || ' ' || a.part as subject, a.number from attempts a
     join deployments d on d.id = a.deployment_id join environments e on e.id = d.environment_id join projects p on p.id = e.project_id
     where a.id = $1`,
    [attempt],
  );

/** How many run in an environment, or are about to. */
export const runningJobs = async (db: Db, environment: string): Promise<number> =>
  (
    await queryOne<{ count: number }>(
      db,
      `select count(*)::int as count from attempts where kind = 'job' and state in ('waiting', 'running') and environment_id = $1`,
      [environment],
    )
  )?.count ?? 0;
