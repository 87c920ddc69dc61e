/** Runs with what a list shows of them, in one statement. */
import { type Db, queryOne, query } from '../database.js';
import { ofTheHead } from '../runs/order.js';
import type { RunRow } from '../runs/runs.js';

export interface RunOverview extends RunRow {
  project: string;
  title: string;
  author: string;
  committed_at: Date | null;
  release: number | null;
  tasks_total: number;
  tasks_ended: number;
  /** Milliseconds a passed run of the project takes, the median of the last five; null when this one is over or none has passed. */
  expected_ms: number | null;
}

const overview = `
  select r.id, r.project_id, r.number, r.commit, r.branch, r.pull_request, r.line, r.state, r.cause, r.actor, r.allowed, r.stopped_by, r.issue, r.warnings, r.released, r.fresh, r.superseded_by, r.trimmed_at,
    r.planned_at, r.created_at, r.started_at, r.ended_at, r.tasks_total, r.tasks_ended,
    p.name as project, coalesce(c.title, '') as title, coalesce(c.author, '') as author, c.at as committed_at, l.number as release,
    case when r.state in ('waiting', 'running') then (
      select percentile_cont(0.5) within group (order by ms)::float8
      from (select extract(epoch from ended_at - created_at) * 1000 as ms from runs where project_id = r.project_id and state = 'passed' order by number desc limit 5) past
    ) end as expected_ms
  from (SELECTED) r join projects p on p.id = r.project_id
    left join commits c on c.project_id = r.project_id and c.id = r.commit left join releases l on l.run_id = r.id
  order by r.id desc`;

export interface RunFilter {
  /** Only runs before this id. */
  before: string | null;
  /** Id of the one project that the caller may see; null for all. */
  only: string | null;
  project: string | null;
  state: string | null;
  branch: string | null;
  pullRequest: number | null;
  limit: number;
}

/** The newest runs that fit; only what is asked for becomes part of the statement, so that an index fits it. */
export function listRuns(db: Db, filter: RunFilter): Promise<RunOverview[]> {
  const bind: unknown[] = [];
  const where: string[] = [];
  const add = (value: unknown, text: (place: string) => string) => {
    if (value === null) return;
    bind.push(value);
    where.push(text(`$${bind.length}`));
  };
  add(filter.before, (at) => `id < ${at}::uuid`);
  add(filter.only, (at) => `project_id = ${at}::uuid`);
  add(filter.project, (at) => `project_id = (select id from projects where name = ${at})`);
  add(filter.state, (at) => `state = ${at}`);
  add(filter.branch, (at) => `branch = ${at}`);
  add(filter.pullRequest, (at) => `pull_request = ${at}`);
  bind.push(filter.limit);
  const selected = `select * from runs ${where.length ? `where ${where.join(' and ')}` : ''} order by id desc limit $${bind.length}`;
  return query(db, overview.replace('SELECTED', selected), bind);
}

export const runOverview = (db: Db, id: string): Promise<RunOverview | null> =>
  queryOne(db, overview.replace('SELECTED', 'select * from runs where id = $1'), [id]);

export const runOverviews = (db: Db, ids: readonly string[]): Promise<RunOverview[]> =>
  ids.length
    ? query(db, overview.replace('SELECTED', 'select * from runs where id = any($1::uuid[])'), [ids])
    : Promise.resolve([]);

/** The newest run of a branch. */
export const newestRun = (db: Db, project: string, branch: string): Promise<RunOverview | null> =>
  queryOne(
    db,
    overview.replace(
      'SELECTED',
      `select * from runs u where project_id = $1 and branch = $2 and ${ofTheHead('u')} order by id desc limit 1`,
    ),
    [project, branch],
  );
