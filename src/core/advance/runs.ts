/**
 * A run's tasks.
 *
 * | state    | entered                               | left                                             |
 * |----------|---------------------------------------|--------------------------------------------------|
 * | waiting  | when the run is planned               | all needs passed or reused → ready; one ended otherwise → skipped |
 * | ready    | its needs have passed; its agent is lost; it failed and may be tried again | its fingerprint has passed before → reused; its attempt is claimed → running; the run ends early → stopped, superseded |
 * | running  | an agent has claimed its attempt, or one that it shares with another run | the attempt passed, failed or stopped; lost → ready |
 * | passed, reused, failed, skipped, stopped, superseded | see above | never |
 *
 * A run is `waiting` until it is planned, `running` until all tasks have ended, then `failed` if one failed, else
 * `stopped` or `superseded` if that was asked, else `passed`.
 */
import { type AttemptState, type RunState, type TaskState, taskEnded } from '../states.js';

export interface TaskFact {
  name: string;
  state: TaskState;
  needs: readonly string[];
  /** Another run has a share in its attempt, which goes on without this run. */
  shared?: boolean;
}

export interface RunStep {
  tasks: { name: string; state: TaskState }[];
  /** The state the run ends in, or null while it goes on. */
  ends: RunState | null;
}

const good = (state: TaskState | undefined): boolean => state === 'passed' || state === 'reused';

/** What follows for a running run from the states of its tasks. `tasks` come with needs first. */
export function advanceRun(tasks: readonly TaskFact[], ending: 'stopped' | 'superseded' | null): RunStep {
  const states = new Map(tasks.map((task) => [task.name, task.state]));
  const changes: RunStep['tasks'] = [];
  const change = (name: string, state: TaskState) => {
    states.set(name, state);
    changes.push({ name, state });
  };
  for (const task of tasks) {
    if (ending && (task.state === 'waiting' || task.state === 'ready' || (task.state === 'running' && task.shared)))
      change(task.name, ending);
    else if (task.state === 'waiting') {
      const needs = task.needs.map((need) => states.get(need));
      if (needs.every(good)) change(task.name, 'ready');
      else if (needs.some((state) => state !== undefined && taskEnded(state) && !good(state)))
        change(task.name, 'skipped');
    }
  }
  const all = [...states.values()];
  if (!all.every(taskEnded)) return { tasks: changes, ends: null };
  const cut = ending ?? (all.includes('stopped') || all.includes('skipped') ? 'stopped' : null);
  const ends = all.includes('failed') && ending !== 'superseded' ? 'failed' : (cut ?? 'passed');
  return { tasks: changes, ends };
}

/** How often a task's agent may vanish before the task counts as failed. One that says that it goes is not counted. */
export const lostLimit = 5;

export interface Tries {
  /** Attempts of the task whose agent vanished, this one included. */
  lost: number;
  /** Attempts that failed, this one included. */
  failed: number;
  /** How often it may be tried again after a failure. */
  retry: number;
}

/** The state of a task after an attempt of it has ended; `ready`: another attempt follows. */
export function taskAfter(attempt: AttemptState, tries: Tries, ending: 'stopped' | 'superseded' | null): TaskState {
  switch (attempt) {
    case 'passed':
      return 'passed';
    case 'stopped':
      return ending ?? 'stopped';
    case 'failed':
      return !ending && tries.failed <= tries.retry ? 'ready' : 'failed';
    case 'lost':
      return ending ?? (tries.lost >= lostLimit ? 'failed' : 'ready');
    case 'waiting':
      return 'ready';
    case 'running':
      return 'running';
    default:
      return attempt satisfies never;
  }
}
