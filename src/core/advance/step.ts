/**
 * A step of a run: from what is known of it, and attempts that have ended, to all that is written because of them.
 *
 * Pure: what must be looked up for it (earlier passes of a fingerprint) is asked for by name, and the same step is made again
 * with the answer. `runs.ts` has the table of states.
 */
import type { Task } from '../definition/model.js';
import { issue, type Issue } from '../errors/errors.js';
import type { TestResults } from '../results/model.js';
import { type AttemptState, type RunState, type TaskState, taskEnded } from '../states.js';
import { advanceRun, taskAfter } from './runs.js';

/** What a step needs to know of a run. */
export interface StepRun {
  state: RunState;
  line: string;
  pullRequest: number | null;
  stoppedBy: string | null;
  supersededBy: number | null;
  /** Tasks whose earlier passes do not count: null: all count; an empty list: no task's do. */
  fresh: readonly string[] | null;
  /** A release is to be made of it, and is not made yet. */
  unreleased: boolean;
  /** It is of the branch that people release from. */
  main: boolean;
}

export interface StepTask {
  id: string;
  name: string;
  state: TaskState;
  evidence: boolean;
  model: Task;
  /** Base digest of the agents that may do it. */
  base: string;
  fingerprint: string | null;
  output: string | null;
  attempt: StepAttempt | null;
  /** Attempts of its own so far. */
  tries: number;
  lost: number;
  failed: number;
}

/** The attempt that works for a task now, or that its result comes from. */
export interface StepAttempt {
  id: string;
  number: number;
  state: AttemptState;
  /** Another task's: this one has a share in it. */
  shared: boolean;
}

/** An attempt that has ended. */
export interface StepEnd {
  attempt: string;
  state: Exclude<AttemptState, 'waiting' | 'running'>;
  issue: Issue | null;
  output: { digest: string; size: number } | null;
  tests: TestResults | null;
}

/** A pass that counts for a fingerprint: its bytes are there. */
export interface StepPass {
  attempt: string;
  /** Number of the attempt, and of the run that it comes from. */
  number: number;
  output: { digest: string; size: number } | null;
  tests: TestResults | null;
  run: number;
}

/** What changes of a task; what is left out stays. */
export interface StepChange {
  id: string;
  state: TaskState;
  issue?: Issue | null;
  fingerprint?: string;
  inputs?: unknown;
  output?: { digest: string; size: number } | null;
  tests?: TestResults | null;
  attempt?: string;
  flaky?: boolean;
  /** It was running, though nobody had written that down. */
  began?: boolean;
}

export interface StepTry {
  id: string;
  task: string;
  number: number;
  takes: 'runs' | 'untrusted';
  base: string | null;
  /** The lower, the sooner it is taken. */
  priority: number;
  /** Under which others may have a share in it. */
  shares: string;
  /** It may itself be a share in another one. */
  joins: boolean;
}

export interface StepResult {
  fingerprint: string;
  attempt: string;
  state: 'passed' | 'failed';
  output: { digest: string; size: number } | null;
  tests: TestResults | null;
}

export interface StepEvent {
  type:
    | 'attempt.started'
    | 'attempt.ended'
    | 'task.ready'
    | 'task.skipped'
    | 'task.reused'
    | 'task.ended'
    | 'run.ended';
  actor: 'engine' | 'agent';
  data: Record<string, unknown>;
}

/** All that is written, at once or not at all. */
export interface StepWrites {
  tasks: StepChange[];
  tries: StepTry[];
  results: StepResult[];
  /** Waiting attempts of these tasks that nobody else waits for come to nothing. */
  cut: string[];
  /** Attempts whose passes were used: they must still be there. */
  used: string[];
  events: StepEvent[];
  ends: { state: RunState; issue: Issue | null } | null;
  /** All evidence is there: the release is to be made before anything else. */
  releaseFirst: boolean;
}

/** A run's tasks by their names. */
export interface Tasks {
  get(name: string): StepTask | undefined;
}

/** Where a run's tasks stand, which stays the same from step to step. */
export interface StepIndex {
  byId: ReadonlyMap<string, number>;
  byName: ReadonlyMap<string, number>;
  /** Of each task, those that need it. */
  dependants: readonly (readonly number[])[];
}

export function indexOf(tasks: readonly Pick<StepTask, 'id' | 'name' | 'model'>[]): StepIndex {
  const byName = new Map(tasks.map((task, at) => [task.name, at]));
  const dependants = tasks.map((): number[] => []);
  for (const [at, task] of tasks.entries())
    for (const need of task.model.needs) dependants[byName.get(need) ?? -1]?.push(at);
  return { byId: new Map(tasks.map((task, at) => [task.id, at])), byName, dependants };
}

export interface StepBefore {
  /** Default: made of the tasks. */
  index?: StepIndex;
  /** All that followed from the tasks as they are was taken before: only what needs one that ends now can change. Default false. */
  settled?: boolean;
}

export interface StepTools {
  /** What identifies a ready task's work; its needs have ended. */
  identify(task: StepTask, byName: Tasks): { fingerprint: string; inputs: unknown };
  newId(): string;
}

/** Fingerprint → its pass, or null when it has none; what is not in it was not looked up. */
export type Passes = ReadonlyMap<string, StepPass | null>;

export type Step =
  | { writes: StepWrites; tasks: StepTask[]; ask?: undefined }
  /** These fingerprints are to be looked up first. */
  | { ask: string[] };

/** Failures that are the agent's, the sandbox's or the service's own: they say nothing of the work. */
const ofTheMachine: ReadonlySet<string> = new Set([
  'setup_failed',
  'sandbox_missing',
  'report_refused',
  'digest_wrong',
  'not_found',
  'unavailable',
  'internal',
  'agent_hurt',
  'secret_unreadable',
  'disk_nearly_full',
  'base_gone',
]);

/** Why a run is to end before its tasks have. */
export const endingOf = (run: Pick<StepRun, 'stoppedBy' | 'supersededBy'>): 'stopped' | 'superseded' | null =>
  run.stoppedBy !== null ? 'stopped' : run.supersededBy !== null ? 'superseded' : null;

/** All evidence is there. */
export const complete = (tasks: readonly Pick<StepTask, 'evidence' | 'state'>[]): boolean =>
  tasks.filter((task) => task.evidence).every((task) => task.state === 'passed' || task.state === 'reused');

/** Whether an earlier pass of this task may count in this run. */
export const mayReuse = (run: { fresh: readonly string[] | null }, model: Pick<Task, 'reuse' | 'of'>): boolean =>
  model.reuse && (run.fresh === null || (run.fresh.length > 0 && !run.fresh.includes(model.of)));

const priorityOf = (run: StepRun): number => (run.line !== 'own' ? 4 : run.pullRequest !== null ? 3 : run.main ? 1 : 2);

export function stepRun(
  run: StepRun,
  before: readonly StepTask[],
  ended: readonly StepEnd[],
  passes: Passes,
  tools: StepTools,
  { index = indexOf(before), settled = false }: StepBefore = {},
): Step {
  const list = [...before];
  const placeOf = (id: string) => index.byId.get(id) as number;
  const byName: Tasks = { get: (name) => list[index.byName.get(name) ?? -1] };
  const changes = new Map<string, StepChange>();
  const writes: StepWrites = {
    tasks: [],
    tries: [],
    results: [],
    cut: [],
    used: [],
    events: [],
    ends: null,
    releaseFirst: false,
  };
  const tell = (type: StepEvent['type'], data: Record<string, unknown>, actor: StepEvent['actor'] = 'engine') =>
    writes.events.push({ type, actor, data });
  const put = (change: StepChange, more: Partial<StepTask> = {}) => {
    changes.set(change.id, { ...changes.get(change.id), ...change });
    const at = placeOf(change.id);
    const task = list[at] as StepTask;
    list[at] = {
      ...task,
      state: change.state,
      fingerprint: change.fingerprint ?? task.fingerprint,
      output: change.output?.digest ?? task.output,
      ...more,
    };
  };
  const ending = endingOf(run);
  const ready = new Set<string>();
  const asked: string[] = [];
  /** A task is to be done: by a pass that counts, or by an attempt. True when it is done by that. */
  const want = (task: StepTask, identity: { fingerprint: string; inputs?: unknown }, told: boolean): boolean => {
    const pass = mayReuse(run, task.model) ? passes.get(identity.fingerprint) : null;
    if (pass === undefined) asked.push(identity.fingerprint);
    if (!pass) {
      put({ id: task.id, state: 'ready', ...identity });
      ready.add(task.id);
      if (!told) tell('task.ready', { task: task.name });
      return false;
    }
    put(
      { id: task.id, state: 'reused', ...identity, attempt: pass.attempt, output: pass.output, tests: pass.tests },
      { attempt: { id: pass.attempt, number: pass.number, state: 'passed', shared: true } },
    );
    writes.used.push(pass.attempt);
    tell('task.reused', { task: task.name, run: pass.run });
    return true;
  };
  /** Places of tasks whose end others may have waited for; null: whatever can follow is looked for. */
  let over: Set<number> | null = settled && !ending ? new Set() : null;
  for (const end of ended) {
    // Tasks of one run that need the same have one attempt, too.
    for (const { id } of list.filter((task) => task.attempt?.id === end.attempt)) {
      const at = placeOf(id);
      over?.add(at);
      const next = takeEnd(list[at] as StepTask, end, ending, put, writes);
      if (!next) continue;
      const task = list[at] as StepTask;
      // What it has just failed counts from now on: a pass beside it does not.
      if (next === 'failed') ready.add(id);
      else want(task, { fingerprint: task.fingerprint as string }, true);
    }
  }
  // Each round may reuse tasks, which makes those that need them ready at once.
  for (let more = run.state === 'running'; more; ) {
    more = false;
    writes.releaseFirst = run.unreleased && !ending && complete(list);
    if (writes.releaseFirst) break;
    const near = over ? around(list, index, over).map((at) => list[at] as StepTask) : list;
    const ends = new Set<number>();
    for (const { name, state } of advanceRun(near.map(factOf), ending).tasks) {
      const at = index.byName.get(name) as number;
      const task = list[at] as StepTask;
      if (state !== 'ready') {
        put({ id: task.id, state });
        ready.delete(task.id);
        // Those that need it may be further than was looked.
        if (over) more = true;
        ends.add(at);
        if (state === 'stopped' || state === 'superseded') writes.cut.push(task.id);
        tell(state === 'skipped' ? 'task.skipped' : 'task.ended', { task: name, state });
        continue;
      }
      if (!want(task, tools.identify(task, byName), false)) continue;
      more = true;
      ends.add(at);
    }
    if (over) over = ends;
  }
  if (asked.length) return { ask: asked };
  if (run.state === 'running' && !writes.releaseFirst && list.every((task) => taskEnded(task.state))) {
    const ends = advanceRun(list.map(factOf), ending).ends as RunState;
    writes.ends = { state: ends, issue: endIssue(run, ends) };
  }
  if (writes.ends) tell('run.ended', { state: writes.ends.state });
  for (const id of ready) {
    const task = list[placeOf(id)] as StepTask;
    if (task.state !== 'ready') continue;
    const attempt = tools.newId();
    writes.tries.push({
      id: attempt,
      task: id,
      number: task.tries + 1,
      takes: run.line === 'own' ? 'runs' : 'untrusted',
      base: task.base || null,
      priority: priorityOf(run),
      shares: task.fingerprint as string,
      joins: mayReuse(run, task.model),
    });
    put(
      { id, state: 'ready', attempt },
      { attempt: { id: attempt, number: task.tries + 1, state: 'waiting', shared: false }, tries: task.tries + 1 },
    );
  }
  writes.tasks = [...changes.values()];
  return { writes, tasks: list };
}

/** Places of the tasks that wait for one of these, with all that they need, in the order of the tasks. */
function around(tasks: readonly StepTask[], index: StepIndex, over: ReadonlySet<number>): number[] {
  const found = new Set<number>();
  for (const at of over)
    for (const dependant of index.dependants[at] ?? []) {
      const task = tasks[dependant] as StepTask;
      if (task.state !== 'waiting') continue;
      found.add(dependant);
      for (const need of task.model.needs) found.add(index.byName.get(need) as number);
    }
  return [...found].sort((a, b) => a - b);
}

/** Whether a lost attempt uses up a try: an agent that was stopped or restarted says so, and its work goes to another one. */
export const countsAsLost = (why: Pick<Issue, 'code'> | null): boolean => why?.code !== 'agent_left';

/** What an attempt's end does to a task that it works for; says why another attempt follows, if one does. */
function takeEnd(
  task: StepTask,
  end: StepEnd,
  ending: ReturnType<typeof endingOf>,
  put: (change: StepChange, more?: Partial<StepTask>) => void,
  writes: StepWrites,
): 'failed' | 'again' | null {
  const attempt = task.attempt as StepAttempt;
  const { state, issue: why, output, tests } = end;
  const counts = state === 'passed' || (state === 'failed' && !(why && ofTheMachine.has(why.code)));
  if (task.fingerprint && counts && !writes.results.some((one) => one.attempt === attempt.id))
    writes.results.push({ fingerprint: task.fingerprint, attempt: attempt.id, state, output, tests });
  // Its run may have ended before it.
  if (task.state !== 'ready' && task.state !== 'running') return null;
  const lost = task.lost + (state === 'lost' && countsAsLost(why) ? 1 : 0);
  const failed = task.failed + (state === 'failed' ? 1 : 0);
  const next = taskAfter(state, { lost, failed, retry: task.model.retry }, ending);
  const began = task.state === 'ready' && attempt.state === 'running';
  const said = { task: task.name, attempt: attempt.number };
  if (began) writes.events.push({ type: 'attempt.started', actor: 'agent', data: said });
  writes.events.push({ type: 'attempt.ended', actor: 'agent', data: { ...said, state, issue: why } });
  if (next !== 'ready')
    writes.events.push({ type: 'task.ended', actor: 'agent', data: { task: task.name, state: next } });
  put(
    {
      id: task.id,
      state: next,
      issue:
        state === 'lost' && next === 'failed'
          ? issue('agents_lost', { times: lost, agent: why?.data.agent ?? 'unknown' })
          : why,
      output: next === 'passed' ? output : null,
      tests,
      ...(next === 'passed' && failed > 0 ? { flaky: true } : {}),
      ...(began ? { began } : {}),
    },
    { lost, failed, attempt: { ...attempt, state } },
  );
  return next !== 'ready' ? null : counts ? 'failed' : 'again';
}

/** A ready task whose attempt was claimed runs already, though nobody has said so yet. */
const factOf = (task: StepTask) => ({
  name: task.name,
  state: task.state === 'ready' && task.attempt?.state === 'running' ? ('running' as const) : task.state,
  needs: task.model.needs,
  shared: task.attempt?.shared ?? false,
});

function endIssue(run: StepRun, ends: RunState): Issue | null {
  if (ends === 'stopped' && run.stoppedBy) return issue('stopped_by', { who: run.stoppedBy });
  return ends === 'superseded' && run.supersededBy ? issue('superseded_by', { run: run.supersededBy }) : null;
}

/** A new attempt that became a share of another one that was open. */
export interface StepJoin {
  try: string;
  attempt: string;
  number: number;
  state: 'waiting' | 'running';
}

/** The attempts with which a step's new ones were replaced, told to what is known. */
export function withJoined(
  tasks: readonly StepTask[],
  { joined, claimed }: { joined: readonly StepJoin[]; claimed: readonly { id: string }[] },
): StepTask[] {
  const shares = new Map(joined.map((one) => [one.try, one]));
  const running = new Set(claimed.map((one) => one.id));
  return tasks.map((task) => {
    const share = task.attempt ? shares.get(task.attempt.id) : undefined;
    if (share) {
      const state = running.has(share.attempt) ? 'running' : share.state;
      const attempt: StepAttempt = { id: share.attempt, number: share.number, state, shared: true };
      return { ...task, tries: task.tries - 1, attempt, state: state === 'running' ? 'running' : task.state };
    }
    return task.attempt && running.has(task.attempt.id) && task.state === 'ready'
      ? { ...task, state: 'running', attempt: { ...task.attempt, state: 'running' } }
      : task;
  });
}
