/** Attempts: made waiting, claimed by an agent with a fence and a lease, ended once. Each write of their agent names the fence. */
import { CodedError, type Issue } from '../core/errors.js';
import type { AttemptKind, AttemptState, Takes } from '../core/states.js';
import { json, type Db, notify } from './database.js';
import { newId } from './ids.js';

/** What an agent must have to take it. */
export interface AttemptNeeds {
  takes: Takes;
  /** Base digest, or null for any. */
  base: string | null;
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
}

/** With the run that it belongs to; null for those of deployments. */
export interface AttemptOfRun extends AttemptRow {
  run_id: string | null;
  commit: string | null;
}

const columns =
  'id, kind, task_id, deployment_id, project_id, number, state, agent_id, fence, stop, issue, log_bytes::float8 as log_bytes, log_lines::float8 as log_lines, created_at, started_at, ended_at';

export interface NewAttempt {
  kind: AttemptKind;
  task: string | null;
  deployment: string | null;
  project: string;
  number: number;
  needs: AttemptNeeds;
  /** The lower, the sooner it is taken. */
  priority: number;
}

/** Makes attempts that wait for an agent; gives their ids. */
export async function addAttempts(db: Db, attempts: readonly NewAttempt[]): Promise<string[]> {
  const rows = attempts.map((attempt) => ({ id: newId(), ...attempt }));
  await db.rows(
    `insert into attempts (id, kind, task_id, deployment_id, project_id, number, needs, priority)
     select a.id, a.kind, a.task, a.deployment, a.project, a.number, a.needs, a.priority
     from jsonb_to_recordset($1::jsonb) as a(id uuid, kind text, task uuid, deployment uuid, project uuid, number int, needs jsonb, priority int)`,
    [json(rows)],
  );
  await notify(db, 'work');
  return rows.map((row) => row.id);
}

/** Ends the attempts of these tasks that no agent has taken yet and no other run waits for. */
export const stopAttempts = (db: Db, tasks: readonly string[]): Promise<unknown> =>
  db.rows(
    `update attempts a set state = 'stopped', ended_at = now() where state = 'waiting' and id in (select attempt_id from tasks where id = any($1::uuid[]))
       and not exists (select 1 from tasks t where t.attempt_id = a.id and t.state in ('ready', 'running'))`,
    [tasks],
  );

const ofRun = `select ${columns.replace(/(^|, )(\w+)/g, '$1a.$2')}, t.run_id, r.commit from attempts a left join tasks t on t.id = a.task_id left join runs r on r.id = t.run_id`;

export const attemptById = (db: Db, id: string): Promise<AttemptOfRun | null> => db.one(`${ofRun} where a.id = $1`, [id]);
export const attemptsOfRun = (db: Db, run: string): Promise<AttemptRow[]> =>
  db.rows(
    `select ${columns} from attempts where task_id in (select id from tasks where run_id = $1) or id in (select attempt_id from tasks where run_id = $1) order by number`,
    [run],
  );
export const attemptsOfDeployment = (db: Db, deployment: string): Promise<AttemptRow[]> =>
  db.rows(`select ${columns} from attempts where deployment_id = $1 order by id`, [deployment]);

/**
 * Claims waiting attempts until the agent holds `slots`, in one statement; each gets a new fence. Deployments come first, then
 * projects take turns: a project's next turn counts what it has running. In a project, main's runs come before pull requests'.
 */
export async function claimAttempts(
  db: Db,
  agent: { id: string; takes: readonly string[]; base: string },
  slots: number,
  leaseMs: number,
): Promise<AttemptRow[]> {
  if (slots <= 0) return [];
  return db.rows<AttemptRow>(
    `with busy as (select project_id, count(*) as count from attempts where state = 'running' group by project_id),
     waiting as (
       select id, priority, created_at, row_number() over (partition by project_id order by priority, created_at) + coalesce((select count from busy b where b.project_id = a.project_id), 0) as turn
       from attempts a where state = 'waiting' and not stop and needs->>'takes' = any($2::text[]) and (needs->>'base' is null or needs->>'base' = $3)
     ),
     chosen as (
       select a.id from attempts a join waiting w on w.id = a.id where a.state = 'waiting'
       order by (w.priority > 0), w.turn, w.priority, w.created_at
       limit greatest(0, $4 - (select count(*) from attempts where agent_id = $1 and state = 'running')) for update of a skip locked
     )
     update attempts a set state = 'running', agent_id = $1, fence = nextval('fences'), lease_until = now() + $5::int * interval '1 ms', started_at = now()
     from chosen where a.id = chosen.id returning ${columns.replace(/(^|, )(\w+)/g, '$1a.$2')}`,
    [agent.id, agent.takes, agent.base, slots, leaseMs],
  );
}

/** Everything that this agent holds, as recorded. */
export const heldAttempts = (db: Db, agent: string): Promise<AttemptRow[]> =>
  db.rows(`select ${columns} from attempts where agent_id = $1 and state = 'running'`, [agent]);

/** Locks an attempt that the agent still holds under this fence; throws `fence_old` otherwise. */
export async function lockHeld(db: Db, id: string, agent: string, fence: string): Promise<AttemptRow> {
  const row = await db.one<AttemptRow>(
    `select ${columns} from attempts where id = $1 and agent_id = $2 and fence = $3 and state = 'running' for no key update`,
    [id, agent, fence],
  );
  if (!row) throw new CodedError('fence_old');
  return row;
}

/** Ends an attempt, and with it those of its commands that nothing was said about yet. */
export async function endAttempt(db: Db, id: string, state: AttemptState, issue: Issue | null, commands: readonly EndedCommand[] = []): Promise<void> {
  await db.rows(`with told as (${upsertCommands}) update attempts set state = $2, issue = $3, ended_at = now(), lease_until = null where id = $1`, [
    id,
    state,
    issue === null ? null : json(issue),
    commandsJson(commands),
  ]);
  if (state !== 'passed') await db.rows(`update commands set state = $2 where attempt_id = $1 and state = 'running'`, [id, state]);
  await notify(db, `log:${id}`);
}

/** Attempts whose lease has run out. */
export const strayAttempts = (db: Db): Promise<AttemptOfRun[]> => db.rows(`${ofRun} where a.state = 'running' and a.lease_until < now() limit 100`);

/** Attempts that have waited for `ms` for a base that no agent has had for as long: nobody will ever take them. */
export const orphanAttempts = (db: Db, ms: number): Promise<AttemptOfRun[]> =>
  db.rows(
    `${ofRun} where a.state = 'waiting' and a.needs->>'base' is not null and a.created_at < now() - $1::float8 * interval '1 ms'
       and not exists (select 1 from agents g where g.base = a.needs->>'base' and g.takes @> array[a.needs->>'takes'] and g.lease_until > now() - $1::float8 * interval '1 ms')
     limit 100`,
    [ms],
  );

/** Attempts that an agent held before it started anew. */
export const attemptsLeftBy = (db: Db, agent: string): Promise<AttemptOfRun[]> => db.rows(`${ofRun} where a.state = 'running' and a.agent_id = $1`, [agent]);

export const stoppedWaiting = (db: Db): Promise<AttemptOfRun[]> => db.rows(`${ofRun} where a.state = 'waiting' and a.stop limit 100`);

export interface CommandRow {
  position: number;
  text: string;
  state: AttemptState;
  exit: number | null;
  started_at: Date;
  ms: number | null;
  first_line: number;
}

export async function startCommand(db: Db, attempt: string, position: number, text: string, firstLine: number): Promise<void> {
  await db.rows(
    `insert into commands (attempt_id, position, text, state, started_at, first_line) values ($1, $2, $3, 'running', now(), $4) on conflict do nothing`,
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

const commandsJson = (commands: readonly EndedCommand[]): string =>
  json(commands.map(({ firstLine, ms, ...rest }) => ({ ...rest, ms: Math.round(ms), first_line: firstLine })));

/** $1 is the attempt, $4 the commands as JSON. */
const upsertCommands = `insert into commands (attempt_id, position, text, state, exit, ms, started_at, first_line)
  select $1::uuid, c.position, c.text, case when c.exit = 0 then 'passed' else 'failed' end, c.exit, c.ms, now() - c.ms * interval '1 ms', coalesce(c.first_line, 0)
  from jsonb_to_recordset($4::jsonb) as c(position int, text text, exit int, ms int, first_line bigint)
  on conflict (attempt_id, position) do update set state = excluded.state, exit = excluded.exit, ms = excluded.ms, first_line = greatest(commands.first_line, excluded.first_line)`;

export async function endCommands(db: Db, attempt: string, commands: readonly EndedCommand[]): Promise<void> {
  if (commands.length === 0) return;
  await db.rows(upsertCommands.replace('$4', '$2'), [attempt, commandsJson(commands)]);
  await notify(db, `log:${attempt}`);
}

/** The first command of each of these attempts has been handed to their agent. */
export async function startFirst(db: Db, commands: readonly { attempt: string; text: string }[]): Promise<void> {
  await db.rows(
    `insert into commands (attempt_id, position, text, state, started_at) select c.attempt, 0, c.text, 'running', now()
     from jsonb_to_recordset($1::jsonb) as c(attempt uuid, text text) on conflict do nothing`,
    [json(commands)],
  );
  await notify(db, ...commands.map((one) => `log:${one.attempt}`));
}

/** Where each command's lines begin. */
export const placeCommands = (db: Db, attempt: string, firstLines: readonly number[]): Promise<unknown> =>
  db.rows(
    'update commands c set first_line = f.line from unnest($2::bigint[]) with ordinality as f(line, place) where c.attempt_id = $1 and c.position = f.place - 1 and c.first_line <> f.line',
    [attempt, firstLines],
  );

export const commandsOf = (db: Db, attempts: readonly string[]): Promise<(CommandRow & { attempt_id: string })[]> =>
  db.rows(
    'select attempt_id, position, text, state, exit, started_at, ms, first_line::float8 as first_line from commands where attempt_id = any($1::uuid[]) order by attempt_id, position',
    [attempts],
  );
