/** Attempts: made waiting, claimed by an agent with a fence and a lease, ended once. Each write of their agent names the fence. */
import { CodedError, type Issue } from '../../core/errors/errors.js';
import type { AttemptKind, AttemptState, Takes } from '../../core/states.js';
import { json, type Db, notify, queryOne, query } from '../database.js';
import { newId } from '../ids.js';

/** What an agent must have to take it. */
export interface AttemptNeeds {
  takes: Takes;
  /** Base digest, or null for any. */
  base: string | null;
  /** A tool that it has; left out: any. */
  tool?: string;
}

export interface AttemptRow {
  id: string;
  kind: AttemptKind;
  task_id: string | null;
  deployment_id: string | null;
  project_id: string;
  number: number;
  state: AttemptState;
  agent_id: string | null;
  fence: string | null;
  stop: boolean;
  issue: Issue | null;
  log_bytes: number;
  log_lines: number;
  created_at: Date;
  started_at: Date | null;
  ended_at: Date | null;
  /** Of a job: which part it is. */
  part: string | null;
}

/** With the run that it belongs to; null for those of deployments. */
export interface AttemptOfRun extends AttemptRow {
  run_id: string | null;
  commit: string | null;
}

const columns =
  'id, kind, task_id, deployment_id, project_id, number, state, agent_id, fence, stop, issue, log_bytes::float8 as log_bytes, log_lines::float8 as log_lines, created_at, started_at, ended_at, part';

export interface NewAttempt {
  kind: AttemptKind;
  task: string | null;
  deployment: string | null;
  project: string;
  number: number;
  needs: AttemptNeeds;
  /** The lower, the sooner it is taken. */
  priority: number;
  /** Of a job: which part it is, and where. */
  part?: string;
  environment?: string;
}

/** Makes attempts that wait for an agent; gives their ids. */
export async function addAttempts(db: Db, attempts: readonly NewAttempt[]): Promise<string[]> {
  const rows = attempts.map((attempt) => ({ id: newId(), ...attempt }));
  await query(
    db,
    `insert into attempts (id, kind, task_id, deployment_id, project_id, number, needs, priority, part, environment_id)
     select a.id, a.kind, a.task, a.deployment, a.project, a.number, a.needs, a.priority, a.part, a.environment
     from jsonb_to_recordset($1::jsonb) as a(id uuid, kind text, task uuid, deployment uuid, project uuid, number int, needs jsonb, priority int, part text, environment uuid)`,
    [json(rows)],
  );
  await notify(db, 'work');
  return rows.map((row) => row.id);
}

/** SQL: ids of the attempts of run $1, its own and those that it shares. Two look-ups by index; an `or` of both would read the whole table. */
export const attemptsFor = `array(select a.id from tasks t join attempts a on a.task_id = t.id where t.run_id = $1
       union select t.attempt_id from tasks t where t.run_id = $1 and t.attempt_id is not null)`;

const ofRun = `select ${columns.replace(/(^|, )(\w+)/g, '$1a.$2')}, t.run_id, r.commit from attempts a left join tasks t on t.id = a.task_id left join runs r on r.id = t.run_id`;

export const attemptById = (db: Db, id: string): Promise<AttemptOfRun | null> =>
  queryOne(db, `${ofRun} where a.id = $1`, [id]);
export const attemptsOfRun = (db: Db, run: string): Promise<AttemptRow[]> =>
  query(
    db,
    `select ${columns} from attempts
     where id = any(${attemptsFor})
     order by number`,
    [run],
  );
export const attemptsOfDeployment = (db: Db, deployment: string): Promise<AttemptRow[]> =>
  query(db, `select ${columns} from attempts where deployment_id = $1 order by id`, [deployment]);

/**
 * Claims waiting attempts until the agent holds `slots`, in one statement; each gets a new fence. Deployments come first, then
 * projects take turns: a project's next turn counts what it has running. In a project, main's runs come before pull requests'.
 */
export const claimAttempts = async (db: Db, agent: string, slots: number, leaseMs: number): Promise<AttemptRow[]> =>
  slots <= 0 ? [] : query(db, `select ${columns} from claim_attempts($1, $2, $3)`, [agent, slots, leaseMs]);

/** One that has not ended is told to. */
export async function stopAttempt(db: Db, id: string): Promise<void> {
  await query(db, `update attempts set stop = true where id = $1 and state in ('waiting', 'running')`, [id]);
  await notify(db, 'work');
}

/** Locks an attempt that still stands as it was seen; false when it does not. */
export const lockAs = async (
  db: Db,
  id: string,
  {
    from,
    agent,
    fence,
    lapsed = false,
  }: { from: 'waiting' | 'running'; agent?: string; fence?: string; lapsed?: boolean },
): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from attempts where id = $1 and state = $2 and ($3::uuid is null or agent_id = $3) and ($4::bigint is null or fence = $4)
       and (not $5 or lease_until < now()) for no key update`,
    [id, from, agent ?? null, fence ?? null, lapsed],
  )) !== null;

/** All open tasks that these attempts work for run from now on; gives the runs that were changed, with their new versions. */
export const beginServed = (db: Db, attempts: readonly string[]): Promise<{ run: string; version: string }[]> =>
  query(db, 'select run, version::text as version from begin_attempts($1::uuid[])', [attempts]);

/** An attempt as a function of the records gives it, with times as texts. */
export function fromJson(row: Record<string, unknown>): AttemptRow {
  const date = (value: unknown) => (typeof value === 'string' ? new Date(value) : null);
  return {
    ...(row as unknown as AttemptRow),
    created_at: date(row.created_at) as Date,
    started_at: date(row.started_at),
    ended_at: date(row.ended_at),
  };
}

/** Everything that this agent holds, as recorded. */
export const heldAttempts = (db: Db, agent: string): Promise<AttemptRow[]> =>
  query(db, `select ${columns} from attempts where agent_id = $1 and state = 'running'`, [agent]);

/** Locks an attempt that the agent still holds under this fence; throws `fence_old` otherwise. */
export async function lockHeld(db: Db, id: string, agent: string, fence: string): Promise<AttemptRow> {
  const row = await queryOne<AttemptRow>(
    db,
    `select ${columns} from attempts
     where id = $1
       and agent_id = $2
       and fence = $3
       and state = 'running' for no key update`,
    [id, agent, fence],
  );
  if (!row) throw new CodedError('fence_old');
  return row;
}

/** Ends an attempt, and with it those of its commands that nothing was said about yet. */
export async function endAttempt(
  db: Db,
  id: string,
  state: AttemptState,
  issue: Issue | null,
  commands: readonly EndedCommand[],
  firstLines?: readonly number[],
): Promise<void> {
  await query(db, 'update attempts set state = $2, issue = $3, ended_at = now(), lease_until = null where id = $1', [
    id,
    state,
    issue === null ? null : json(issue),
  ]);
  await endCommands(db, id, commands, { state, firstLines });
}

/** Attempts whose lease has run out. */
export const strayAttempts = (db: Db): Promise<AttemptOfRun[]> =>
  query(db, `${ofRun} where a.state = 'running' and a.lease_until < now() limit 100`);

/** Attempts that have waited for `ms` for a base that no agent has had for as long: nobody will ever take them. */
export const orphanAttempts = (db: Db, ms: number): Promise<AttemptOfRun[]> =>
  query(
    db,
    `${ofRun} where a.state = 'waiting' and a.needs->>'base' is not null and a.created_at < now() - $1::float8 * interval '1 ms'
       and not exists (select 1 from agents g where g.base = a.needs->>'base' and g.takes @> array[a.needs->>'takes'] and g.lease_until > now() - $1::float8 * interval '1 ms')
     limit 100`,
    [ms],
  );

/** Attempts that an agent held before it started anew. */
export const attemptsLeftBy = (db: Db, agent: string): Promise<AttemptOfRun[]> =>
  query(db, `${ofRun} where a.state = 'running' and a.agent_id = $1`, [agent]);

export const stoppedWaiting = (db: Db): Promise<AttemptOfRun[]> =>
  query(db, `${ofRun} where a.state = 'waiting' and a.stop limit 100`);

export interface CommandRow {
  position: number;
  text: string;
  state: AttemptState;
  exit: number | null;
  started_at: Date;
  ms: number | null;
  first_line: number;
}

export async function startCommand(
  db: Db,
  attempt: string,
  position: number,
  text: string,
  firstLine: number,
): Promise<void> {
  await query(
    db,
    `insert into commands (attempt_id, position, text, state, started_at, first_line)
       values ($1, $2, $3, 'running', now(), $4)
     on conflict do nothing`,
    [attempt, position, text, firstLine],
  );
  await notify(db, `log:${attempt}`);
}

export interface EndedCommand {
  position: number;
  text: string;
  exit: number;
  ms: number;
  firstLine?: number;
}

/** Commands as the records' functions read them. */
export const commandsFor = (commands: readonly EndedCommand[]) =>
  commands.map(({ firstLine, ms, ...rest }) => ({ ...rest, ms: Math.round(ms), first_line: firstLine }));

/** What commands came to; with their attempt's `state`, where it has ended, and the number of each one's first line. */
export async function endCommands(
  db: Db,
  attempt: string,
  commands: readonly EndedCommand[],
  { state, firstLines }: { state?: AttemptState; firstLines?: readonly number[] | undefined } = {},
): Promise<void> {
  if (commands.length === 0 && !state) return;
  await query(db, 'select end_commands($1, $2, $3, $4)', [
    attempt,
    json(commandsFor(commands)),
    state ?? 'passed',
    firstLines ? json(firstLines) : null,
  ]);
}

export const commandsOf = (db: Db, attempts: readonly string[]): Promise<(CommandRow & { attempt_id: string })[]> =>
  query(
    db,
    `select attempt_id, position, text, state, exit, started_at, ms, first_line::float8 as first_line
     from commands
     where attempt_id = any($1::uuid[])
     order by attempt_id, position`,
    [attempts],
  );
