/** What is counted of runs and deployments that have ended, each once: the transaction that counts one marks it. */
import type { DeliveryDay, TaskDay } from '../../core/delivery/rows.js';
import type { DeploymentKind, TaskState } from '../../core/states.js';
import { type Db, json, query, queryOne } from '../database.js';

/** One counts at a time: rows of days are read, added to and written back. */
export const lockCounting = (db: Db): Promise<unknown> => query(db, 'select pg_advisory_xact_lock(7403133)');

export interface EndedRunRow {
  id: string;
  project_id: string;
  /** Milliseconds since the epoch. */
  ended: number;
}

export const uncountedRuns = (db: Db, most: number): Promise<EndedRunRow[]> =>
  query(
    db,
    `select id, project_id, extract(epoch from ended_at)::float8 * 1000 as ended from runs
     where not counted and ended_at is not null order by id limit $1 for update skip locked`,
    [most],
  );

export const markRuns = (db: Db, ids: readonly string[]): Promise<unknown> =>
  query(db, 'update runs set counted = true where id = any($1::uuid[])', [ids]);

export interface EndedTaskRow {
  run_id: string;
  task: string;
  state: TaskState;
  flaky: boolean;
  attempts: { asked: number; began: number | null; ended: number | null }[];
  saved: number | null;
}

/** Tasks of runs, by their declared names: all shards of one are one. */
export const endedTasks = (db: Db, runs: readonly string[]): Promise<EndedTaskRow[]> =>
  query(
    db,
    `select t.run_id, t.model->>'of' as task, t.state, t.flaky,
       coalesce((select jsonb_agg(jsonb_build_object('asked', extract(epoch from a.created_at) * 1000,
           'began', extract(epoch from a.started_at) * 1000, 'ended', extract(epoch from a.ended_at) * 1000))
         from attempts a where a.task_id = t.id and a.state in ('passed', 'failed')), '[]') as attempts,
       (select extract(epoch from a.ended_at - a.started_at)::float8 * 1000 from attempts a
         where a.id = t.attempt_id and a.task_id <> t.id and t.state in ('passed', 'reused')) as saved
     from tasks t where t.run_id = any($1::uuid[])`,
    [runs],
  );

export interface FlakyRow {
  project_id: string;
  task: string;
  test: string;
  times: number;
}

/** Tests that failed since the last pass, in attempts before one of these runs passed with the same bytes; at most fifty of a task. */
export const flakyTests = (db: Db, runs: readonly string[]): Promise<FlakyRow[]> =>
  query(
    db,
    `select project_id, task, test, count(*)::int as times from (
       select r.project_id, t.model->>'of' as task, left(concat_ws(' › ', nullif(c.case->>'group', ''), c.case->>'name'), 300) as test,
         row_number() over (partition by t.id order by c.at) as place
       from runs r join tasks t on t.run_id = r.id and t.state = 'passed'
         join attempts own on own.id = t.attempt_id and own.task_id = t.id
         join results f on f.project_id = r.project_id and f.line = r.line and f.fingerprint = t.fingerprint
           and f.state = 'failed' and f.at < own.ended_at
           and f.at > coalesce((select max(p.at) from results p where p.project_id = r.project_id and p.line = r.line
             and p.fingerprint = t.fingerprint and p.state = 'passed' and p.attempt_id <> own.id and p.at < own.ended_at), '-infinity')
         cross join lateral jsonb_array_elements(f.tests->'cases') with ordinality as c("case", at)
       where r.id = any($1::uuid[]) and c.case->>'state' = 'failed') all_of_them
     where place <= 50 group by project_id, task, test`,
    [runs],
  );

export interface UncountedDeployment {
  id: string;
  project_id: string;
  environment_id: string;
  /** Of its environment's plan. */
  plan_name: string;
  standing: boolean;
  number: number;
  kind: DeploymentKind;
  state: 'live' | 'replaced' | 'failed' | 'reverted';
  counted: 'live' | null;
  /** All times in milliseconds since the epoch. */
  asked: number;
  seen: number | null;
  live: number | null;
  ended: number | null;
  poor: number | null;
  /** It was a split, and a person has ended it. */
  splitEnded: boolean;
  /** Of its release; null: no run of this house made it. */
  run: number | null;
  next: { revert: boolean; asked: number; live: number | null } | null;
}

const ms = (column: string) => `extract(epoch from ${column})::float8 * 1000`;

export const uncountedDeployments = (db: Db, most: number): Promise<UncountedDeployment[]> =>
  query(
    db,
    `select d.id, d.project_id, d.environment_id, d.number, e.plan_name, e.kind = 'standing' as standing, d.kind, d.state, d.counted,
       ${ms('d.created_at')} as asked, ${ms('d.seen_at')} as seen, ${ms('d.live_at')} as live, ${ms('d.ended_at')} as ended,
       ${ms('d.poor_at')} as poor, r.number as run,
       d.split is not null and coalesce(d.failure->>'code', '') = 'cutover_back' as "splitEnded",
       (select jsonb_build_object('revert', n.kind = 'revert', 'asked', ${ms('n.created_at')}, 'live', ${ms('n.live_at')})
         from deployments n where n.replaces_id = d.id and n.live_at is not null order by n.number limit 1) as next
     from deployments d join environments e on e.id = d.environment_id
       join releases l on l.id = d.release_id left join runs r on r.id = l.run_id
     where d.counted is distinct from 'over' and d.state in ('live', 'replaced', 'failed', 'reverted')
       and (d.counted is null or d.state <> 'live')
     order by d.id limit $1 for update of d skip locked`,
    [most],
  );

export const markDeployments = (db: Db, ids: readonly string[], counted: 'live' | 'over'): Promise<unknown> =>
  query(db, 'update deployments set counted = $2 where id = any($1::uuid[])', [ids, counted]);

/**
 * Commits pushed to main that a deployment brought to its environment first: those since the newest that was live there before. The
 * deployments of an environment are counted in their order, and each says what was the newest by then.
 */
export async function changesOf(
  db: Db,
  {
    id,
    project_id,
    environment_id,
    run,
    number,
  }: Pick<UncountedDeployment, 'id' | 'project_id' | 'environment_id' | 'number'> & { run: number },
): Promise<{ committed: number; pushed: number; built: number }[]> {
  const before = await queryOne<{ newest: number }>(
    db,
    `select newest_run as newest from deployments
     where environment_id = $1 and number < $2 and newest_run is not null order by number desc limit 1`,
    [environment_id, number],
  );
  await query(db, 'update deployments set newest_run = greatest($2::int, $3::int) where id = $1', [
    id,
    run,
    before?.newest ?? 0,
  ]);
  return query(
    db,
    `select ${ms('c.at')} as committed, ${ms('min(r.created_at)')} as pushed, ${ms('min(r.ended_at)')} as built
     from runs r join projects p on p.id = r.project_id join commits c on c.project_id = r.project_id and c.id = r.commit
     where r.project_id = $1 and r.branch = p.main_branch and r.pull_request is null and r.ended_at is not null
       and r.number <= $2 and r.number > $3
     group by c.id, c.at limit 2000`,
    // The first one brings its own alone: what was before it was never to come here.
    [project_id, run, before?.newest ?? run - 1],
  );
}

/** Adds to what is there. */
export async function addTasks(
  db: Db,
  project: string,
  rows: readonly TaskDay[],
  add: (all: TaskDay[]) => TaskDay,
): Promise<void> {
  for (const row of rows) {
    const there = await queryOne<TaskDay>(
      db,
      `select task, day::text as day, ran, reused, failed, flaky, took_ms::float8 as "tookMs", saved_ms::float8 as "savedMs", took, waited
       from task_days where project_id = $1 and task = $2 and day = $3`,
      [project, row.task, row.day],
    );
    const sum = there ? add([there, row]) : row;
    await query(
      db,
      `insert into task_days (project_id, task, day, ran, reused, failed, flaky, took_ms, saved_ms, took, waited)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
       on conflict (project_id, day, task) do update set ran = excluded.ran, reused = excluded.reused, failed = excluded.failed,
         flaky = excluded.flaky, took_ms = excluded.took_ms, saved_ms = excluded.saved_ms, took = excluded.took, waited = excluded.waited`,
      [
        project,
        sum.task,
        sum.day,
        sum.ran,
        sum.reused,
        sum.failed,
        sum.flaky,
        Math.round(sum.tookMs),
        Math.round(sum.savedMs),
        json(sum.took),
        json(sum.waited),
      ],
    );
  }
}

export const addFlaky = (db: Db, day: string, rows: readonly FlakyRow[]): Promise<unknown> =>
  query(
    db,
    `insert into flaky_days as f (project_id, task, test, day, times)
       select r.project_id, r.task, r.test, $1, r.times from jsonb_to_recordset($2::jsonb) as r(project_id uuid, task text, test text, times int)
     on conflict (project_id, day, task, test) do update set times = f.times + excluded.times`,
    [day, json(rows)],
  );

export async function addDelivery(
  db: Db,
  project: string,
  rows: readonly DeliveryDay[],
  add: (all: DeliveryDay[]) => DeliveryDay,
): Promise<void> {
  for (const row of rows) {
    const there = await queryOne<DeliveryDay>(
      db,
      `select environment_id as environment, day::text as day, live, seen, failed, unseen, lead, pushed, built, waited, brought, restored
       from delivery_days where project_id = $1 and environment_id = $2 and day = $3`,
      [project, row.environment, row.day],
    );
    const sum = there ? add([there, row]) : row;
    await query(
      db,
      `insert into delivery_days (project_id, environment_id, day, live, seen, failed, unseen, lead, pushed, built, waited, brought, restored)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
       on conflict (project_id, day, environment_id) do update set live = excluded.live, seen = excluded.seen, failed = excluded.failed,
         unseen = excluded.unseen, lead = excluded.lead, pushed = excluded.pushed, built = excluded.built, waited = excluded.waited,
         brought = excluded.brought, restored = excluded.restored`,
      [
        project,
        sum.environment,
        sum.day,
        sum.live,
        sum.seen,
        sum.failed,
        sum.unseen,
        json(sum.lead),
        json(sum.pushed),
        json(sum.built),
        json(sum.waited),
        json(sum.brought),
        json(sum.restored),
      ],
    );
  }
}
