/**
 * A run's tasks.
 *
 * | state    | entered                               | left                                             |
 * |----------|---------------------------------------|--------------------------------------------------|
 * | waiting  | when the run is planned               | all needs passed → ready; one ended otherwise → skipped |
 * | ready    | its needs have passed; its agent is lost | claimed → running; the run is stopped → stopped  |
 * | running  | an agent has claimed its attempt      | the attempt passed, failed or stopped; lost → ready |
 * | passed, failed, skipped, stopped | see above     | never                                            |
 *
 * A run is `waiting` until it is planned, `running` until all tasks have ended, then `failed` if one failed, else
 * `stopped` if a person stopped it, else `passed`.
 */
import { type AttemptState, type RunState, type TaskState, taskEnded } from '../states.js';

export interface TaskFact {
  name: string;
  state: TaskState;
  needs: readonly string[];
}

export interface RunStep {
  tasks: { name: string; state: TaskState }[];
  /** The state the run ends in, or null while it goes on. */
  ends: RunState | null;
}

const good = (state: TaskState | undefined): boolean => state === 'passed' || state === 'reused';

/** What follows for a running run from the states of its tasks. `tasks` come with needs first. */
export function advanceRun(tasks: readonly TaskFact[], stopping: boolean): RunStep {
  const states = new Map(tasks.map((task) => [task.name, task.state]));
  const changes: RunStep['tasks'] = [];
  const change = (name: string, state: TaskState) => {
    states.set(name, state);
    changes.push({ name, state });
  };
  for (const task of tasks) {
    if (stopping && (task.state === 'waiting' || task.state === 'ready')) change(task.name, 'stopped');
    else if (task.state === 'waiting') {
      const needs = task.needs.map((need) => states.get(need));
      if (needs.every(good)) change(task.name, 'ready');
      else if (needs.some((state) => state !== undefined && taskEnded(state) && !good(state))) change(task.name, 'skipped');
    }
  }
  const all = [...states.values()];
  if (!all.every(taskEnded)) return { tasks: changes, ends: null };
  const ends = all.includes('failed') ? 'failed' : all.includes('stopped') || all.includes('skipped') || stopping ? 'stopped' : 'passed';
  return { tasks: changes, ends };
}

/** How often a task's agent may go away before the task counts as failed. */
export const lostLimit = 3;

/** The state of a task after an attempt of it has ended. */
export function taskAfter(attempt: AttemptState, lost: number, stopping: boolean): TaskState {
  switch (attempt) {
    case 'passed':
    case 'failed':
    case 'stopped':
      return attempt;
    case 'lost':
      return stopping ? 'stopped' : lost >= lostLimit ? 'failed' : 'ready';
    case 'waiting':
      return 'ready';
    case 'running':
      return 'running';
    default:
      return attempt satisfies never;
  }
}
