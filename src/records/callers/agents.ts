import type { Issue } from '../../core/errors/errors.js';
import type { Takes } from '../../core/states.js';
import { json, type Db, queryOne, query } from '../database.js';
import { newId } from '../ids.js';

export interface AgentRow {
  id: string;
  name: string;
  boot: string;
  /** What it takes of what its token allows. */
  takes: Takes[];
  slots: number;
  address: string;
  port_from: number;
  port_to: number;
  tools: Record<string, string>;
  base: string;
  sandbox: Record<string, unknown>;
  seen_at: Date;
  alive: boolean;
  /** Why it takes nothing new, or null. */
  full_issue: Issue | null;
}

const columns =
  'id, name, boot, takes, slots, address, port_from, port_to, tools, base, sandbox, seen_at, lease_until > now() as alive, full_issue';

export interface NewAgent {
  token: string;
  name: string;
  boot: string;
  takes: Takes[];
  slots: number;
  address: string;
  ports: { from: number; to: number };
  tools: Record<string, string>;
  base: string;
  sandbox: Record<string, unknown>;
  /** Bytes that its instances may take together; default: it does not say. */
  memory?: number | undefined;
}

/** Registers an agent under its name; null when the name belongs to another token that is still good. */
export const registerAgent = (db: Db, agent: NewAgent, leaseMs: number): Promise<AgentRow | null> =>
  queryOne(
    db,
    `insert into agents (id, token_id, name, boot, takes, slots, address, tools, base, sandbox, lease_until, port_from, port_to, memory)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, now() + $11::int * interval '1 ms', $12, $13, $14)
     on conflict (name) do update set token_id = excluded.token_id, boot = excluded.boot, takes = excluded.takes, slots = excluded.slots,
       address = excluded.address, port_from = excluded.port_from, port_to = excluded.port_to, tools = excluded.tools, base = excluded.base,
       sandbox = excluded.sandbox, memory = excluded.memory, seen_at = now(), lease_until = excluded.lease_until
     where agents.token_id = excluded.token_id or exists (select 1 from tokens t where t.id = agents.token_id and t.removed_at is not null)
     returning ${columns}`,
    [
      newId(),
      agent.token,
      agent.name,
      agent.boot,
      agent.takes,
      agent.slots,
      agent.address,
      json(agent.tools),
      agent.base,
      json(agent.sandbox),
      leaseMs,
      agent.ports.from,
      agent.ports.to,
      agent.memory ?? null,
    ],
  );

/** Keeps two questions of one agent from claiming at the same time, each not seeing what the other takes. */
export const lockAgent = (db: Db, id: string): Promise<unknown> =>
  query(db, 'select 1 from agents where id = $1 for update', [id]);

/** Renews the lease of an agent and of all that it says it holds; null when it must register again. */
export async function renewAgent(
  db: Db,
  token: string,
  boot: string,
  held: readonly { id: string; fence: string }[],
  leaseMs: number,
  full: Issue | null,
  /** Instances that it can still take. */
  places: number,
): Promise<AgentRow | null> {
  const row = await queryOne<AgentRow>(
    db,
    `update agents
     set seen_at = now(), lease_until = now() + $3::int * interval '1 ms', full_issue = $4, places = $5
     where token_id = $1
       and boot = $2
     returning ${columns}`,
    [token, boot, leaseMs, full === null ? null : json(full), places],
  );
  if (row && held.length) {
    await query(
      db,
      `update attempts a set lease_until = now() + $3::int * interval '1 ms'
       from jsonb_to_recordset($2::jsonb) as h(id uuid, fence bigint)
       where a.id = h.id
         and a.fence = h.fence
         and a.agent_id = $1
         and a.state = 'running'`,
      [row.id, json(held), leaseMs],
    );
  }
  return row;
}

/**
 * Gives every agent another lease: while no service was there to renew it, its silence told nothing. Who is really gone is
 * found one lease later.
 */
export async function forgiveSilence(db: Db, leaseMs: number): Promise<void> {
  await query(db, `update agents set lease_until = greatest(lease_until, now() + $1::int * interval '1 ms')`, [
    leaseMs,
  ]);
  await query(
    db,
    `update attempts
     set lease_until = greatest(lease_until, now() + $1::int * interval '1 ms')
     where state = 'running'`,
    [leaseMs],
  );
}

export const agentOfToken = (db: Db, token: string): Promise<AgentRow | null> =>
  queryOne(db, `select ${columns} from agents where token_id = $1`, [token]);
export const listAgents = (db: Db): Promise<AgentRow[]> => query(db, `select ${columns} from agents order by name`);

/** Whether an agent has this attempt, instance or terminal now. */
export const holds = async (db: Db, agent: string, work: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from attempts where id = $2 and agent_id = $1 and state = 'running'
     union all
     select 1 from instances where id = $2 and agent_id = $1 and state in ('starting', 'ready', 'frozen')
     union all
     select 1 from terminals where id = $2 and agent_id = $1 and state in ('given', 'open')
     limit 1`,
    [agent, work],
  )) !== null;

/** Whether an agent that is there takes what strangers have made, and has this tool. */
export const takesPictures = async (db: Db, tool: string): Promise<boolean> =>
  (await queryOne(
    db,
    `select 1 as ok from agents where lease_until > now() and 'untrusted' = any(takes) and jsonb_exists(tools, $1) limit 1`,
    [tool],
  )) !== null;
