/** What arrives: pushes, events of code hosts, pull requests. */
import type { Pull } from '../../core/advance/pulls.js';
import { CodedError } from '../../core/errors/errors.js';
import { json, type Db, notify, queryOne, query, tables } from '../database.js';
import { type NewEvent, recordEvents } from '../events.js';
import { newId } from '../ids.js';

export interface CommitRow {
  id: string;
  title: string;
  author: string;
  at: Date;
}

export async function intendPush(
  db: Db,
  project: string,
  branch: string,
  before: string | null,
  after: string | null,
  actor: string,
): Promise<string> {
  const id = newId();
  await query(
    db,
    `insert into pushes (id, project_id, branch, before_commit, commit, actor)
       values ($1, $2, $3, $4, $5, $6)`,
    [id, project, branch, before, after, actor],
  );
  return id;
}

/** The newest open intent that would have put `branch` where it stands. */
export const openIntent = (
  db: Db,
  project: string,
  branch: string,
  after: string | null,
): Promise<{ id: string; actor: string } | null> =>
  queryOne(
    db,
    `select id, actor from pushes
     where project_id = $1
       and branch = $2
       and commit is not distinct from $3
       and state = 'intended'
     order by id desc limit 1`,
    [project, branch, after],
  );

/** Intents that came to nothing: older than a minute, and the ref stands elsewhere. */
export const dropOldIntents = (db: Db, project: string): Promise<unknown> =>
  query(
    db,
    `update pushes set state = 'refused'
     where project_id = $1
       and state = 'intended'
       and at < now() - interval '1 minute'`,
    [project],
  );

export interface Push {
  project: { id: string; name: string };
  branch: string;
  /** Where it is recorded to stand; null for a branch that is not known yet. */
  before: string | null;
  commit: CommitRow;
  actor: string;
  intent: string | null;
}

/**
 * Records that a branch stands at a commit, with the run that follows, in one transaction. Told twice it changes nothing, nor when
 * somebody else has recorded something newer: returns the run's number, or null then.
 */
export async function recordPush(db: Db, push: Push): Promise<number | null> {
  const { project, branch, commit, actor } = push;
  const moved = await queryOne(
    db,
    `insert into branches (project_id, name, head) values ($1, $2, $3)
     on conflict (project_id, name) do update set head = excluded.head, updated_at = now()
     where branches.head <> excluded.head and branches.head = $4 returning 1 as ok`,
    [project.id, branch, commit.id, push.before],
  );
  if (push.intent) await query(db, `update pushes set state = 'recorded' where id = $1`, [push.intent]);
  if (!moved) return null;
  if (!push.intent)
    await query(
      db,
      `insert into pushes (id, project_id, branch, commit, state, actor)
         values ($1, $2, $3, $4, 'recorded', $5)`,
      [newId(), project.id, branch, commit.id, actor],
    );
  await saveCommit(db, project.id, commit);
  await recordEvents(db, {
    type: 'push.recorded',
    project: project.id,
    subject: `${project.name}/${branch}`,
    actor,
    data: { branch, commit: commit.id, title: commit.title },
  });
  const { number } = await addRun(db, {
    project: project.id,
    commit: commit.id,
    branch,
    pullRequest: null,
    line: 'own',
    cause: 'push',
    actor,
    allowed: true,
  });
  return number;
}

/** A branch that is gone. Its runs and releases stay. */
export async function recordBranchRemoved(
  db: Db,
  project: { id: string; name: string },
  branch: string,
  head: string,
  actor: string,
  intent: string | null,
): Promise<boolean> {
  const row = await queryOne(
    db,
    'delete from branches where project_id = $1 and name = $2 and head = $3 returning 1 as ok',
    [project.id, branch, head],
  );
  if (intent) await query(db, `update pushes set state = 'recorded' where id = $1`, [intent]);
  if (row)
    await recordEvents(db, {
      type: 'branch.removed',
      project: project.id,
      subject: `${project.name}/${branch}`,
      actor,
      data: { branch },
    });
  return row !== null;
}

export const saveCommit = (db: Db, project: string, commit: CommitRow): Promise<unknown> =>
  query(
    db,
    `insert into commits (project_id, id, title, author, at)
       values ($1, $2, $3, $4, $5)
     on conflict do nothing`,
    [project, commit.id, commit.title, commit.author, commit.at],
  );

export async function recordedBranches(db: Db, project: string): Promise<{ name: string; head: string }[]> {
  const { Branch, in: within } = tables(db);
  return Branch.findAll({ attributes: ['name', 'head'], where: { project_id: project }, raw: true, ...within });
}

export interface NewRun {
  project: string;
  commit: string;
  branch: string | null;
  pullRequest: number | null;
  /** Trust line: `own`, or `pr-N` for an untrusted pull request. */
  line: string;
  cause: 'push' | 'pull request' | 'asked';
  actor: string;
  allowed: boolean;
  /** See `RunRow.fresh`; default null. */
  fresh?: string[] | null;
}

/** Records a run, with its event. The project's row is locked from here on: what else there is to do in the transaction comes before. */
export async function addRun(db: Db, run: NewRun): Promise<{ id: string; number: number }> {
  const id = newId();
  const row = await queryOne<{ number: number }>(
    db,
    'select add_run($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) as number',
    [
      id,
      run.project,
      run.commit,
      run.branch,
      run.pullRequest,
      run.line,
      run.cause,
      run.actor,
      run.allowed,
      run.fresh ?? null,
    ],
  );
  return { id, number: (row as { number: number }).number };
}

export interface IntakeRow {
  project_id: string;
  event_id: string;
  source: string;
  type: string;
  body: Record<string, unknown>;
  tries: number;
  /** When it happened at the code host. */
  told_at: Date;
}

/** Records an event of a code host before it is answered. False when it was seen before. */
export async function recordIntake(db: Db, event: Omit<IntakeRow, 'tries'>): Promise<boolean> {
  const row = await queryOne(
    db,
    `insert into intake (project_id, event_id, source, type, body, told_at)
       values ($1, $2, $3, $4, $5, $6)
     on conflict do nothing
     returning 1 as ok`,
    [event.project_id, event.event_id, event.source, event.type, json(event.body), event.told_at],
  );
  if (row) await notify(db, 'sources');
  return row !== null;
}

/** Whether a refused event of a project is to be told: once an hour, whoever sends how many. */
export const mayTellRefusal = async (db: Db, project: string): Promise<boolean> =>
  (await queryOne(
    db,
    `update projects set intake_refused_at = now()
     where id = $1
       and (intake_refused_at is null or intake_refused_at < now() - interval '1 hour')
     returning 1 as ok`,
    [project],
  )) !== null;

/** Takes the oldest event that is due, for `leaseMs`: who dies with it leaves it to the next. One project's events are worked in the order in which they came. */
export const takeIntake = (db: Db, leaseMs: number): Promise<IntakeRow | null> =>
  queryOne(
    db,
    `update intake set due_at = now() + $1::int * interval '1 ms', tries = tries + 1
     where (project_id, source, event_id) = (
       select project_id, source, event_id from intake i where due_at <= now()
       and not exists (select 1 from intake o where o.project_id = i.project_id and o.due_at is not null and o.at < i.at)
       order by at for update skip locked limit 1)
     returning project_id, event_id, source, type, body, tries, coalesce(told_at, at) as told_at`,
    [leaseMs],
  );

/** Ends an event's work, or puts it off by `againMs`. */
export async function settleIntake(
  db: Db,
  row: IntakeRow,
  outcome: { state: 'done' | 'failed' | 'waiting'; issue: unknown; againMs: number | null },
  ...events: NewEvent[]
): Promise<void> {
  const held = await queryOne(
    db,
    `update intake set state = $4, issue = $5, due_at = case when $6::int is null then null else now() + $6::int * interval '1 ms' end where project_id = $1 and source = $2 and event_id = $3
       and tries = $7 and due_at is not null returning 1 as ok`,
    [
      row.project_id,
      row.source,
      row.event_id,
      outcome.state,
      outcome.issue === null ? null : json(outcome.issue),
      outcome.againMs,
      row.tries,
    ],
  );
  // Somebody else has it since: what this transaction has done is undone.
  if (!held) throw new CodedError('fence_old');
  await recordEvents(db, ...events);
}

const pullColumns = ['number', 'title', 'head', 'base', 'trusted', 'draft', 'state', 'merged', 'times'] as const;

/** A pull request as it is known, locked; null where nobody has told of it. */
export async function lockPullRequest(db: Db, project: string, number: number): Promise<Pull | null> {
  // There is a row to hold from the first telling on: two that come at once are one after the other.
  await query(
    db,
    `insert into pull_requests (project_id, number, title, head, base, trusted, state) values ($1, $2, '', '', '', false, 'closed')
     on conflict do nothing`,
    [project, number],
  );
  const row = await queryOne<Pull>(
    db,
    `select ${pullColumns.join(', ')} from pull_requests where project_id = $1 and number = $2 for update`,
    [project, number],
  );
  return row && Object.keys(row.times).length > 0 ? row : null;
}

export const putPullRequest = (db: Db, project: string, pull: Pull): Promise<unknown> =>
  query(
    db,
    `update pull_requests set title = $3, head = $4, base = $5, trusted = $6, draft = $7, state = $8, merged = $9, times = $10, updated_at = now()
     where project_id = $1 and number = $2`,
    [
      project,
      pull.number,
      pull.title,
      pull.head,
      pull.base,
      pull.trusted,
      pull.draft,
      pull.state,
      pull.merged,
      json(pull.times),
    ],
  );

/** Who has told of it first; null where nobody knows. */
export const authorOf = async (db: Db, project: string, number: number): Promise<string | null> =>
  (
    await queryOne<{ author: string | null }>(
      db,
      'select author from pull_requests where project_id = $1 and number = $2',
      [project, number],
    )
  )?.author ?? null;

/** Whoever tells of it first is its author. */
export const noteAuthor = (db: Db, project: string, number: number, author: string): Promise<unknown> =>
  query(db, 'update pull_requests set author = coalesce(author, $3) where project_id = $1 and number = $2', [
    project,
    number,
    author,
  ]);

/** The commit at which a branch stands, or null. */
export async function branchHead(db: Db, project: string, name: string): Promise<string | null> {
  const { Branch, in: within } = tables(db);
  return (await Branch.findOne({ where: { project_id: project, name }, raw: true, ...within }))?.head ?? null;
}

export async function findPullRequest(db: Db, project: string, number: number): Promise<Pull | null> {
  const { PullRequest, in: within } = tables(db);
  const where = { project_id: project, number };
  return PullRequest.findOne({ attributes: [...pullColumns], where, raw: true, ...within });
}

export async function openPullRequests(db: Db, project: string): Promise<Pull[]> {
  const { PullRequest, in: within } = tables(db);
  const where = { project_id: project, state: 'open' as const };
  return PullRequest.findAll({ attributes: [...pullColumns], where, order: ['number'], raw: true, ...within });
}

/** Milliseconds until an event of a code host is due, or null. */
export const intakeDueMs = async (db: Db): Promise<number | null> =>
  (
    await queryOne<{ ms: number | null }>(
      db,
      `select (extract(epoch from min(due_at) - now()) * 1000)::float8 as ms
       from intake
       where due_at is not null`,
    )
  )?.ms ?? null;

/** The branch of this name, or one that has this whole commit as its head, the main one first. */
export const branchOf = async (
  db: Db,
  project: { id: string; main_branch: string },
  text: string,
  commit: string,
): Promise<string | null> =>
  (
    await queryOne<{ name: string }>(
      db,
      `select name from branches
       where project_id = $1 and (name = $2 or ($2 = $3 and head = $3))
       order by (name = $4) desc
       limit 1`,
      [project.id, text, commit, project.main_branch],
    )
  )?.name ?? null;

/** Title, author and time of a commit, as recorded. */
export const commitById = (
  db: Db,
  project: string,
  id: string,
): Promise<{ title: string; author: string; at: Date } | null> => {
  const { Commit, in: within } = tables(db);
  return Commit.findOne({
    attributes: ['title', 'author', 'at'],
    where: { project_id: project, id },
    raw: true,
    ...within,
  });
};

/** Several at once; those that are not known are left out. */
export const commitsByIds = (
  db: Db,
  project: string,
  ids: readonly string[],
): Promise<{ id: string; title: string; author: string; at: Date }[]> => {
  const { Commit, in: within } = tables(db);
  return Commit.findAll({
    attributes: ['id', 'title', 'author', 'at'],
    where: { project_id: project, id: [...ids] },
    raw: true,
    ...within,
  });
};

/** Commit → number of the pull request whose head it is, or was last. */
export async function pullsOfCommits(
  db: Db,
  project: string,
  commits: readonly string[],
): Promise<Map<string, number>> {
  const rows = await query<{ head: string; number: number }>(
    db,
    'select head, max(number) as number from pull_requests where project_id = $1 and head = any($2::text[]) group by head',
    [project, commits],
  );
  return new Map(rows.map(({ head, number }) => [head, number]));
}
