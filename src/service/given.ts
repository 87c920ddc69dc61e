/** What agents were told here: work in full, and what an agent's question may still say of what has just changed. */
import { LRUCache } from 'lru-cache';
import { CodedError, type Issue } from '../core/errors/errors.js';
import { beginAttempts, refuseAttempt, reportInstance } from '../engine/runs/reports.js';
import { type AgentRow, holds } from '../records/callers/agents.js';
import { type AttemptRow, attemptById, heldAttempts } from '../records/runs/attempts.js';
import { heldInstances, type InstanceRow } from '../records/deployments/instances.js';
import { endAtDoor } from '../engine/terminals/terminals.js';
import { type TerminalRow, terminalsFor } from '../records/deployments/terminals.js';
import type { AttemptWork, InstanceWork, TerminalWork } from '../wire/rooms/work.js';
import type { Context } from '../engine/context.js';
import { smallFiles } from './small.js';
import { type AttemptFiles, attemptFiles, attemptWork, instanceWork, knownFiles, terminalWork } from './work.js';

/** Milliseconds for which an answer may be on its way. */
const justNowMs = 2_000;

/** An attempt as somebody holds it. */
interface Holding {
  id: string;
  fence: string | null;
}

export interface Given {
  attempts(agent: AgentRow, rows: readonly AttemptRow[]): Promise<AttemptWork[]>;
  /** The same for what a step has given the agent just now: it can't name it yet. */
  attemptsOfStep(agent: AgentRow, rows: readonly AttemptRow[]): Promise<AttemptWork[]>;
  instances(agent: AgentRow, rows: readonly InstanceRow[]): Promise<InstanceWork[]>;
  terminals(agent: AgentRow, rows: readonly TerminalRow[]): Promise<TerminalWork[]>;
  /** Tasks whose attempts were claimed run now; not on the way of an answer. */
  begin(claimed: readonly AttemptRow[]): void;
  /** What runs on an agent, as its records say. */
  runs(agent: AgentRow, attempts: readonly AttemptRow[]): void;
  /** Attempts that hold one of its slots, as far as is known here: jobs hold none. */
  busy(agent: AgentRow): number;
  /** It has reported the end of this one. */
  over(agent: AgentRow, attempt: Holding): void;
  justTold(attempt: Holding): boolean;
  justOver(attempt: Holding): boolean;
  /** The files that an attempt sees. Throws `fence_old` where it is not this agent's. */
  files(agent: AgentRow, attempt: string): Promise<AttemptFiles>;
  /** Whether the agent may have these bytes. */
  mayHave(agent: string, digest: string): Promise<boolean>;
}

export function openGiven(context: Context): Given {
  const { records } = context;
  const small = smallFiles(context);

  /** Agent and digest → the attempt or instance for which it was told of these bytes. */
  const named = new LRUCache<string, string>({ max: 50_000 });
  const name = <Work extends { id: string; layers: string[] }>(agent: string, list: Work[]): Work[] => {
    for (const work of list) for (const digest of work.layers) named.set(`${agent} ${digest}`, work.id);
    return list;
  };

  /** Whether an agent holds work that is made of these bytes: as it was told here, or else, told by another service, made up again. */
  async function mayHave(agent: string, digest: string): Promise<boolean> {
    const work = named.get(`${agent} ${digest}`);
    if (work && (await holds(records, agent, work))) return true;
    const [attempts, instances, { held }] = [
      await heldAttempts(records, agent),
      await heldInstances(records, agent),
      await terminalsFor(records, agent),
    ];
    const wanted = await Promise.all([
      ...attempts.map((row) => attemptWork(context, row)),
      ...instances.map((row) => instanceWork(context, row)),
      ...held.map((row) => terminalWork(context, row)),
    ]);
    return name(agent, wanted).some((one) => one.layers.includes(digest));
  }

  /** Attempts that hold a slot of an agent, as far as it asks and reports here. */
  const running = new Map<string, Set<string>>();
  /** Attempts that were given with the answer to a report, and those that have ended, with the time: what an agent says of them may be older. */
  const told = new Map<string, number>();
  const ended = new Map<string, number>();
  const mark = (times: Map<string, number>, { id, fence }: { id: string; fence: string | null }) => {
    const now = context.now();
    for (const [key, since] of times) {
      if (now - since < justNowMs) break;
      times.delete(key);
    }
    times.set(`${id} ${fence}`, now);
  };
  const justNow = (times: Map<string, number>, { id, fence }: { id: string; fence: string | null }): boolean =>
    context.now() - (times.get(`${id} ${fence}`) ?? 0) < justNowMs;

  /** What is to be done, for each row; one that can't be told in full (a secret that no key opens) fails by itself, in words. */
  async function given<Row, Work>(
    rows: readonly Row[],
    tell: (row: Row) => Promise<Work>,
    refuse: (row: Row, why: Issue) => Promise<void>,
  ): Promise<Work[]> {
    const told = await Promise.all(
      rows.map(async (row) => {
        try {
          return [await tell(row)];
        } catch (error) {
          if (!(error instanceof CodedError)) throw error;
          await refuse(row, error.issue);
          return [];
        }
      }),
    );
    return told.flat();
  }

  /** Not on the way of an answer; what fails here is made up for by the attempt's next report. */
  function begin(claimed: readonly AttemptRow[]): void {
    const others = claimed.filter((row) => !context.steps.runs(row.id));
    if (others.length)
      setTimeout(
        () =>
          void beginAttempts(context, others).catch((error: Error) =>
            context.log.warn({ error: String(error) }, 'an attempt was begun late'),
          ),
      );
  }

  /** What a step has given an agent just now. */
  function tellGiven(agent: AgentRow, rows: readonly AttemptRow[]) {
    const busy = running.get(agent.id) ?? new Set();
    for (const row of rows) {
      mark(told, row);
      if (row.kind !== 'job' && row.kind !== 'picture') busy.add(row.id);
    }
    running.set(agent.id, busy);
    return tellAttempts(agent, rows);
  }

  const tellAttempts = async (agent: AgentRow, rows: readonly AttemptRow[]) =>
    name(
      agent.id,
      await given(
        rows,
        async (row) => small.add(agent.id, await attemptWork(context, row)),
        (row, why) => refuseAttempt(context, row, agent.id, why),
      ),
    );

  return {
    attempts: tellAttempts,
    attemptsOfStep: tellGiven,
    instances: async (agent, rows) =>
      name(
        agent.id,
        await given(
          rows,
          (row) => instanceWork(context, row),
          (row, why) =>
            reportInstance(
              context,
              row.id,
              { agent: agent.id, fence: row.fence ?? '0' },
              { state: 'failed', port: null, exit: null, issue: why },
            ),
        ),
      ),
    terminals: async (agent, rows) =>
      name(
        agent.id,
        await given(
          rows,
          (row) => terminalWork(context, row),
          (row, why) => endAtDoor(context, row.id, 'failed', why),
        ),
      ),
    begin,
    runs: (agent, attempts) =>
      void running.set(agent.id, new Set(attempts.flatMap((row) => (row.kind === 'job' ? [] : [row.id])))),
    busy: (agent) => running.get(agent.id)?.size ?? 0,
    over(agent, attempt) {
      mark(ended, attempt);
      running.get(agent.id)?.delete(attempt.id);
    },
    justTold: (attempt) => justNow(told, attempt),
    justOver: (attempt) => justNow(ended, attempt),
    async files(agent, id) {
      const known = running.get(agent.id)?.has(id) && context.steps.runs(id) ? context.steps.known(id) : null;
      if (known) return knownFiles(context, known);
      const attempt = await attemptById(records, id);
      if (!attempt || attempt.agent_id !== agent.id || attempt.state !== 'running') throw new CodedError('fence_old');
      return attemptFiles(context, attempt);
    },
    mayHave,
  };
}
