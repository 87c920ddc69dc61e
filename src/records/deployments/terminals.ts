/** Terminals: asked for, taken, joined, ended. What may follow on what is core/advance/terminals.ts. */
import type { InferAttributes } from 'sequelize';
import { ticketMs, type TerminalStep } from '../../core/advance/terminals.js';
import type { Issue } from '../../core/errors/errors.js';
import type { TerminalState } from '../../core/states.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import type { Terminal } from '../models/deployments/terminals.js';

export type TerminalRow = Omit<InferAttributes<Terminal>, 'ticket'>;

const columns =
  'id, project_id, environment_id, deployment_id, part, instance_id, caller_id, who, command, tty, state, door, term, columns, rows, agent_id, fence::text as fence, stop, why, exit, issue, since, created_at, opened_at, ended_at';

export interface NewTerminal {
  project: string;
  environment: string;
  deployment: string;
  part: string;
  instance: string | null;
  caller: string;
  who: string;
  command: readonly string[];
  tty: boolean;
  /** Its hash. */
  ticket: Buffer;
}

export async function addTerminal(db: Db, one: NewTerminal): Promise<TerminalRow> {
  const row = await queryOne<TerminalRow>(
    db,
    `insert into terminals (id, project_id, environment_id, deployment_id, part, instance_id, caller_id, who, command, tty, ticket)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) returning ${columns}`,
    [
      newId(),
      one.project,
      one.environment,
      one.deployment,
      one.part,
      one.instance,
      one.caller,
      one.who,
      one.command,
      one.tty,
      one.ticket,
    ],
  );
  return row as TerminalRow;
}

export const terminalById = (db: Db, id: string): Promise<TerminalRow | null> =>
  queryOne(db, `select ${columns} from terminals where id = $1`, [id]);

export const lockTerminal = (db: Db, id: string): Promise<TerminalRow | null> =>
  queryOne(db, `select ${columns} from terminals where id = $1 for update`, [id]);

/** The same, where its ticket is this one and good still. */
export const lockByTicket = (db: Db, id: string, ticket: Buffer): Promise<TerminalRow | null> =>
  queryOne(
    db,
    `select ${columns} from terminals
     where id = $1 and ticket = $2 and state = 'asked' and since > now() - $3::int * interval '1 ms' for update`,
    [id, ticket, ticketMs],
  );

/** Those of a caller that are not over. */
export const openTerminalsOf = async (db: Db, caller: string): Promise<number> =>
  (
    await queryOne<{ count: number }>(
      db,
      `select count(*)::int as count from terminals where caller_id = $1 and state <> 'ended'`,
      [caller],
    )
  )?.count ?? 0;

/** The newest first, with those that are open before all. */
export const terminalsOf = (db: Db, environment: string, limit: number): Promise<TerminalRow[]> =>
  query(
    db,
    `select ${columns} from terminals where environment_id = $1 order by (state <> 'ended') desc, created_at desc limit $2`,
    [environment, limit],
  );

export interface Arrival {
  door: string | null;
  term: string;
  columns: number;
  rows: number;
}

export async function setArrived(db: Db, id: string, at: Arrival): Promise<void> {
  await query(
    db,
    `update terminals set state = 'wanted', since = now(), door = $2, term = $3, columns = $4, rows = $5 where id = $1`,
    [id, at.door, at.term, at.columns, at.rows],
  );
  await notify(db, 'work');
}

/** Gives an agent what it can take: anything, or what is to run beside an instance of its own. */
export const claimTerminals = (db: Db, agent: string, room: number): Promise<TerminalRow[]> =>
  query(
    db,
    `update terminals set state = 'given', since = now(), agent_id = $1, fence = fence + 1
     where id in (
       select t.id from terminals t left join instances i on i.id = t.instance_id
       where t.state = 'wanted' and case when t.instance_id is null then volumes_let(t.deployment_id, t.part, $1) else i.agent_id = $1 end
       order by t.created_at limit $2 for update of t skip locked)
     returning ${columns}`,
    [agent, room],
  );

/** What an agent has, or should have; and whether one waits for an agent. */
export async function terminalsFor(db: Db, agent: string): Promise<{ held: TerminalRow[]; waits: boolean }> {
  const rows = await query<TerminalRow>(
    db,
    `select ${columns} from terminals where state = 'wanted' or (state in ('given', 'open') and agent_id = $1)`,
    [agent],
  );
  return { held: rows.filter((row) => row.state !== 'wanted'), waits: rows.some((row) => row.state === 'wanted') };
}

export const setOpen = (db: Db, id: string): Promise<unknown> =>
  query(db, `update terminals set state = 'open', since = now(), opened_at = now() where id = $1`, [id]);

export async function setEnded(db: Db, id: string, step: TerminalStep, issue: Issue | null): Promise<void> {
  await query(
    db,
    `update terminals set state = 'ended', since = now(), ended_at = now(), why = $2, exit = $3, issue = $4 where id = $1`,
    [id, step.why, step.exit, issue === null ? null : json(issue)],
  );
  await notify(db, 'terminals');
}

export async function stopTerminal(db: Db, id: string): Promise<void> {
  await query(db, 'update terminals set stop = true where id = $1', [id]);
  await notify(db, 'terminals');
}

export interface TerminalAtWork {
  id: string;
  state: TerminalState;
  /** Milliseconds in its state. */
  ms: number;
  /** Its agent gives signs of life. */
  alive: boolean;
  /** Its environment is there no longer, and nobody has ended it yet. */
  outlived: boolean;
}

/** Those that are not over. */
export const terminalsAtWork = (db: Db): Promise<TerminalAtWork[]> =>
  query(
    db,
    `select t.id, t.state, e.state in ('closing', 'closed') and not t.stop as outlived, (extract(epoch from now() - t.since) * 1000)::float8 as ms,
       coalesce((select a.lease_until > now() from agents a where a.id = t.agent_id), true) as alive
     from terminals t join environments e on e.id = t.environment_id where t.state <> 'ended'`,
  );

export const dropOldTerminals = (db: Db): Promise<unknown> =>
  query(db, `delete from terminals where ended_at < now() - interval '365 days'`);
