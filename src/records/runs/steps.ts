/** The state of a run as its steps need it, and the one statement that takes it a step further. */
import type { Issue } from '../../core/errors/errors.js';
import {
  countsAsLost,
  indexOf,
  type StepEnd,
  type StepIndex,
  type StepJoin,
  type StepRun,
  type StepTask,
  type StepWrites,
} from '../../core/advance/step.js';
import type { AttemptState } from '../../core/states.js';
import { type AttemptRow, attemptsFor, commandsFor, type EndedCommand, fromJson } from './attempts.js';
import { type Db, json, queryOne, query } from '../database.js';
import type { RunRow, TaskRow } from './runs.js';
import { runById, tasksOf } from './runs.js';

/** All that is known of a run, as of a version of it. */
export interface RunState {
  version: string;
  row: RunRow;
  rows: TaskRow[];
  tasks: StepTask[];
  index: StepIndex;
  /** All that follows from this was taken. */
  settled: boolean;
}

/** Reads a run whole: with its tasks, and the attempts that work or worked for them; null when there is none. */
export async function readRunState(db: Db, id: string): Promise<RunState | null> {
  // The version first: what changes while the rest is read makes the next step miss.
  const seen = await queryOne<{ version: string }>(db, 'select version::text as version from runs where id = $1', [id]);
  if (!seen) return null;
  const [row, rows, attempts] = await Promise.all([
    runById(db, id),
    tasksOf(db, id),
    query<{ id: string; task_id: string | null; number: number; state: AttemptState; issue: Issue | null }>(
      db,
      `select id, task_id, number, state, case when state = 'lost' then issue end as issue from attempts
       where id = any(${attemptsFor})`,
      [id],
    ),
  ]);
  if (!row) return null;
  const byId = new Map(attempts.map((one) => [one.id, one]));
  const own = new Map<string, { tries: number; lost: number; failed: number }>();
  for (const { task_id, state, issue } of attempts) {
    if (task_id === null) continue;
    const counts = own.get(task_id) ?? { tries: 0, lost: 0, failed: 0 };
    counts.tries++;
    if (state === 'failed' || (state === 'lost' && countsAsLost(issue))) counts[state]++;
    own.set(task_id, counts);
  }
  const tasks = rows.map((task) => {
    const attempt = task.attempt_id === null ? undefined : byId.get(task.attempt_id);
    return stepTaskOf(
      task,
      attempt
        ? { id: attempt.id, number: attempt.number, state: attempt.state, shared: attempt.task_id !== task.id }
        : null,
      own.get(task.id) ?? { tries: 0, lost: 0, failed: 0 },
    );
  });
  return { version: seen.version, row, rows, tasks, index: indexOf(tasks), settled: false };
}

/** A run as it was just written, before anybody works for it. */
export function freshState({ row, rows, version }: Pick<RunState, 'row' | 'rows' | 'version'>): RunState {
  const tasks = rows.map((task) => stepTaskOf(task, null, { tries: 0, lost: 0, failed: 0 }));
  return { version, row, rows, tasks, index: indexOf(tasks), settled: false };
}

const stepTaskOf = (
  task: TaskRow,
  attempt: StepTask['attempt'],
  counts: Pick<StepTask, 'tries' | 'lost' | 'failed'>,
): StepTask => ({
  id: task.id,
  name: task.name,
  state: task.state,
  evidence: task.evidence,
  model: task.model,
  base: task.pinned.base,
  fingerprint: task.fingerprint,
  output: task.output,
  attempt,
  ...counts,
});

export const stepRunOf = (row: RunRow, { main, releases }: { main: boolean; releases: boolean }): StepRun => ({
  state: row.state,
  line: row.line,
  pullRequest: row.pull_request,
  stoppedBy: row.stopped_by,
  supersededBy: row.superseded_by,
  fresh: row.fresh,
  unreleased: releases && !row.released,
  main,
});

/** An attempt's end as it is written; it must still stand as is said here. */
export interface AttemptOver {
  end: StepEnd;
  from: 'waiting' | 'running';
  agent?: string;
  fence?: string;
  /** Its lease must have run out. */
  lapsed?: boolean;
  commands: readonly EndedCommand[];
  /** Number of the first line of each command. */
  firstLines?: readonly number[] | undefined;
}

/** An agent that may be given work with the answer to its report. */
export interface Claim {
  agent: string;
  slots: number;
  leaseMs: number;
}

export interface StepBody {
  over: readonly AttemptOver[];
  writes: StepWrites;
  tasksEnded: number;
  /** Passes that were looked up and do not count: their bytes are not whole. */
  ignored: readonly string[];
  /** Digest whose passes count no more. */
  forget?: string | undefined;
  claims: readonly Claim[];
  /** When the run was taken off the work list to be looked at; it leaves the list unless somebody has put it there again. */
  stamp?: string | undefined;
  /** Runs, by id, that take these ends in the same transaction; another one that has a share in them is missed (`shared`). */
  shared?: readonly string[];
}

export interface Stepped {
  version: string;
  joined: StepJoin[];
  claimed: AttemptRow[];
}

/** Why a step was not written. */
export type Missed =
  | 'changed'
  | 'shared'
  | 'meanwhile'
  | {
      /** Its place among those that are over. */
      notHeld: number;
    };

/** Writes a step, or nothing of it: `Missed` says why. In a transaction a miss ends that too: it must be the last word in it. */
export async function writeStep(db: Db, run: string, version: string, body: StepBody): Promise<Stepped | Missed> {
  const { over, writes, forget, stamp, shared, claims } = body;
  const { ends } = writes;
  const size = (output: { digest: string; size: number } | null | undefined) => ({
    output: output?.digest,
    size: output?.size,
  });
  const text = json({
    tasksEnded: body.tasksEnded,
    ignored: body.ignored,
    ...(forget ? { forget } : {}),
    ...(stamp ? { stamp } : {}),
    ...(shared ? { shared } : {}),
    ...(ends ? { ends } : {}),
    releaseFirst: writes.releaseFirst,
    over: over.map(({ end, from, agent, fence, lapsed, commands, firstLines }) => ({
      attempt: end.attempt,
      state: end.state,
      issue: end.issue,
      from,
      ...(agent ? { agent } : {}),
      ...(fence ? { fence } : {}),
      ...(lapsed ? { lapsed } : {}),
      commands: commandsFor(commands),
      ...(firstLines ? { firstLines } : {}),
    })),
    results: writes.results.map(({ output, tests, ...one }) => ({
      ...one,
      tests: tests ?? undefined,
      ...size(output),
    })),
    used: writes.used,
    tries: writes.tries,
    tasks: writes.tasks.map(({ output, issue, tests, ...one }) => ({
      ...one,
      issue: issue ?? undefined,
      tests: tests ?? undefined,
      ...size(output),
    })),
    cut: writes.cut,
    events: writes.events,
    claims: [...claims]
      .sort((a, b) => (a.agent < b.agent ? -1 : 1))
      .map(({ leaseMs, ...one }) => ({ ...one, lease: leaseMs })),
  });
  try {
    const row = await queryOne<{
      step: { version: number; joined: Stepped['joined']; claimed: Record<string, unknown>[] };
    }>(db, 'select step_run($1, $2, $3) as step', [run, version, text]);
    if (!row) throw new Error('a step gave no answer');
    const { joined, claimed } = row.step;
    return { version: String(row.step.version), joined, claimed: claimed.map(fromJson) };
  } catch (error) {
    const { code, message } = (error as { parent?: { code?: string; message?: string } }).parent ?? {};
    if (code === 'TS001') return 'changed';
    if (code === 'TS002') return { notHeld: Number(message) };
    if (code === 'TS003') return 'shared';
    if (code === 'TS004') return 'meanwhile';
    throw error;
  }
}
