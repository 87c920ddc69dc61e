/** Jobs: begun when their time has come, or by hand; never two of one at once. */
import { nextTime, type Schedule, timesBetween } from '../../core/calendar/schedule.js';
import type { Route } from '../../core/cutover/route.js';
import { routeBody } from '../../records/callers/edges.js';
import { CodedError } from '../../core/errors/errors.js';
import { deploymentById } from '../../records/deployments/deployments.js';
import { type EnvironmentRow, lockEnvironment } from '../../records/deployments/environments.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import { recordEvents } from '../../records/events.js';
import { backoff } from '../../core/backoff.js';
import {
  dueJob,
  jobAttempts,
  nextJob,
  jobsOf,
  lockDueJob,
  putJobs,
  setNext,
  stopJobsOf,
} from '../../records/jobs/jobs.js';
import { type ProjectRow, projectById } from '../../records/projects/projects.js';
import { addAttempts } from '../../records/runs/attempts.js';
import { attemptEnded } from '../../core/states.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';

/** Starts the jobs that are due. One that cannot be started is tried again after a pause that doubles, and delays no other one. */
export function jobSteps(context: Context): { step(): Promise<boolean>; due(): Promise<number | null> } {
  const failing = new Map<string, { failures: number; until: number }>();
  const except = () => [...failing].flatMap(([id, { until }]) => (until > Date.now() ? [id] : []));
  return {
    async step() {
      const due = await dueJob(context.records, except());
      if (!due) return false;
      try {
        await startDue(context, due);
        failing.delete(due.id);
      } catch (error) {
        const failures = (failing.get(due.id)?.failures ?? 0) + 1;
        if (failing.size >= mostFailing) failing.clear();
        failing.set(due.id, { failures, until: Date.now() + backoff('row', failures) });
        context.log.error({ job: due.id, failures, error: String((error as Error).stack) }, 'a job was not started');
      }
      return true;
    },
    due: () => nextJob(context.records, except()),
  };
}

/** Jobs whose failures are counted; with more of them the counts begin at 1 again. */
const mostFailing = 1_000;

/** Starts one job. Times that passed while no service ran are reported, and one start makes up for them. */
async function startDue(context: Context, due: { id: string; environment_id: string }): Promise<void> {
  await context.records.transition('job.due', async (db) => {
    const environment = await lockEnvironment(db, due.environment_id);
    const row = await lockDueJob(db, due.id);
    if (!row) return;
    const project = await projectById(db, environment.project_id);
    const now = context.now();
    const anchor = row.anchor_at.getTime();
    const passed = timesBetween(row.schedule, row.next_at.getTime(), now, anchor);
    const begun = await begin(db, { project, environment }, row.part, 'the clock');
    const missed = passed + (begun ? 0 : 1);
    const closed = !begun && (await isClosed(db, environment));
    await setNext(db, row.id, new Date(nextTime(row.schedule, now, anchor)), begun ? 0 : row.missed + missed);
    if (missed > 0)
      await recordEvents(db, {
        type: 'job.missed',
        project: project.id,
        subject: `${placeOf(project, environment)} ${row.part}`,
        actor: 'engine',
        data: {
          times: missed,
          why: begun ? 'no service was there' : closed ? 'its programs were stopped' : 'it still ran',
        },
      });
  });
}

/** Its programs are stopped for a deployment that is on its way. */
const isClosed = async (db: Db, { host }: EnvironmentRow): Promise<boolean> =>
  ((await routeBody(db, host)) as Route | null)?.closed === true;

interface At {
  project: ProjectRow;
  environment: EnvironmentRow;
}

/** Under the environment's lock. False when it runs, or nothing is live that has it. */
async function begin(db: Db, { project, environment }: At, part: string, actor: string): Promise<boolean> {
  if (await isClosed(db, environment)) return false;
  const deployment = environment.live_id ? await deploymentById(db, environment.live_id) : null;
  const release = deployment && (await releaseById(db, deployment.release_id));
  if (!deployment || release?.plan.parts[part]?.kind !== 'job') return false;
  const [last] = await jobAttempts(db, environment.id, part, 1);
  if (last && !attemptEnded(last.state)) return false;
  await addAttempts(db, [
    {
      kind: 'job',
      task: null,
      deployment: deployment.id,
      project: project.id,
      number: (last?.number ?? 0) + 1,
      needs: { takes: 'live', base: null },
      priority: 0,
      part,
      environment: environment.id,
    },
  ]);
  await recordEvents(db, {
    type: 'job.begun',
    project: project.id,
    subject: `${placeOf(project, environment)} ${part}`,
    actor,
    data: { number: (last?.number ?? 0) + 1 },
  });
  return true;
}

export interface JobPlace {
  project: ProjectRow;
  environment: string;
  name: string;
}

async function jobAt(db: Db, { project, environment: of, name }: JobPlace) {
  const environment = await openEnvironment(db, project, of);
  if (!(await jobsOf(db, environment.id)).some((one) => one.part === name)) throw jobUnknown(project, of, name);
  return { project, environment };
}

export const jobUnknown = (project: { name: string }, environment: string, name: string): CodedError =>
  new CodedError('job_unknown', {
    name: name.slice(0, 60),
    environment: `${project.name}/${environment.slice(0, 60)}`,
  });

/** Begins one by hand. */
export async function runJob(db: Db, place: JobPlace, actor: string): Promise<void> {
  const at = await jobAt(db, place);
  if (!(await begin(db, at, place.name, actor)))
    throw new CodedError('job_runs', { name: place.name, environment: placeOf(at.project, at.environment) });
}

/** Stops one that runs. */
export async function stopJob(db: Db, place: JobPlace, actor: string): Promise<void> {
  const { project, environment } = await jobAt(db, place);
  const [last] = await jobAttempts(db, environment.id, place.name, 1);
  if (!last || attemptEnded(last.state))
    throw new CodedError('job_idle', { name: place.name, environment: placeOf(project, environment) });
  await stopJobsOf(db, environment.id, place.name);
  await recordEvents(db, {
    type: 'job.stop-asked',
    project: project.id,
    subject: `${placeOf(project, environment)} ${place.name}`,
    actor,
  });
}

/** What is live has these jobs from now on. */
export async function syncJobs(context: Context, db: Db, environment: string, release: ReleaseRow): Promise<void> {
  const now = context.now();
  await putJobs(
    db,
    environment,
    Object.values(release.plan.parts).flatMap(({ name, kind, schedule }) =>
      kind === 'job' && schedule ? [{ part: name, schedule, next: nextOf(schedule, now) }] : [],
    ),
  );
}

const nextOf = (schedule: Schedule, now: number): Date => new Date(nextTime(schedule, now, now));
