/** Jobs as people see them. */
import { scheduleText } from '../../core/calendar/schedule.js';
import type { Db } from '../../records/database.js';
import { type JobAttempt, jobAttempts, type JobRow, jobsOf } from '../../records/jobs/jobs.js';
import type { Job, JobDetail, JobRun } from '../../wire/environments/jobs.js';
import { iso, said } from './basics.js';

const runView = (one: JobAttempt): JobRun => ({
  attempt: one.id,
  number: one.number,
  state: one.state,
  deployment: one.deployment,
  release: one.release,
  issue: said(one.issue),
  createdAt: one.created_at.toISOString(),
  startedAt: iso(one.started_at),
  endedAt: iso(one.ended_at),
});

const viewOf = (row: JobRow, [last]: readonly JobAttempt[]): Job => ({
  name: row.part,
  schedule: scheduleText(row.schedule),
  nextAt: row.next_at.toISOString(),
  missed: row.missed,
  last: last ? runView(last) : null,
});

export const jobViews = async (db: Db, environment: string): Promise<Job[]> =>
  Promise.all(
    (await jobsOf(db, environment)).map(async (row) => viewOf(row, await jobAttempts(db, environment, row.part, 1))),
  );

export async function jobDetail(db: Db, environment: string, name: string): Promise<JobDetail | null> {
  const row = (await jobsOf(db, environment)).find((one) => one.part === name);
  if (!row) return null;
  const runs = await jobAttempts(db, environment, name, 50);
  return { ...viewOf(row, runs), runs: runs.map(runView) };
}
