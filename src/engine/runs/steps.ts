/**
 * The steps of runs. What is known of a run is kept here as of its version, so that a step is one statement: it is written when
 * the run is still the same, and otherwise the run is read again. A run's steps follow one another; ends that arrive while one is
 * on its way are taken together in the next.
 */
import { LRUCache } from 'lru-cache';
import {
  type Passes,
  type StepPass,
  stepRun,
  type StepTask,
  type StepTools,
  type StepWrites,
  withJoined,
} from '../../core/advance/step.js';
import type { Task } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import { fingerprint, fingerprintInputs, keptInputs, type NeedOutput } from '../../core/fingerprint/inputs.js';
import { filesOf } from '../../core/plan/plan.js';
import { taskEnded } from '../../core/states.js';
import type { AttemptRow } from '../../records/runs/attempts.js';
import { type Db, notify } from '../../records/database.js';
import { newId } from '../../records/ids.js';
import { findPasses, passesOf } from '../../records/runs/results.js';
import { type RunRow, runsServedBy, type TaskRow } from '../../records/runs/runs.js';
import {
  type Claim,
  type Missed,
  readRunState,
  type RunState,
  type StepBody,
  type Stepped,
  stepRunOf,
  writeStep,
} from '../../records/runs/steps.js';
import type { Cause, Context, RunScene, Steps } from '../context.js';
import { sceneOf } from './scene.js';

/** What a step needs of the context. */
export type StepContext = Pick<Context, 'records' | 'blobs' | 'scenes' | 'repositories' | 'trees' | 'takers'>;

/** Runs that are known at a time, and tries to write one step before it counts as failed. */
const mostKnown = 200;
const mostTries = 30;

interface Waiting extends Cause {
  done(given: AttemptRow[]): void;
  fail(error: unknown): void;
}

export function openSteps(context: () => StepContext): Steps {
  /** Attempt → its run, and its task's place in that. */
  const owners = new Map<string, { run: string; at: number }>();
  const known = new LRUCache<string, RunState>({
    max: mostKnown,
    // A run that goes a step further stays known: only what has changed is told anew.
    noDisposeOnSet: true,
    dispose: (state, run) => {
      for (const { attempt } of state.tasks)
        if (attempt && owners.get(attempt.id)?.run === run) owners.delete(attempt.id);
    },
  });
  const queues = new Map<string, Waiting[]>();

  const forget = (run: string) => known.delete(run);
  const remember = (run: string, state: RunState) => {
    const before = known.get(run);
    known.set(run, state);
    for (const [at, task] of state.tasks.entries()) {
      const old = before?.tasks[at];
      if (old === task) continue;
      if (old?.attempt && old.attempt.id !== task.attempt?.id) owners.delete(old.attempt.id);
      if (task.attempt && !task.attempt.shared) owners.set(task.attempt.id, { run, at });
    }
  };

  const work = async (run: string, queue: Waiting[]): Promise<void> => {
    while (queue.length) {
      const batch = queue.splice(0);
      try {
        await stepBatch(run, batch);
      } catch (error) {
        forget(run);
        for (const one of batch) one.fail(error);
      }
    }
    queues.delete(run);
  };

  /** Takes all of these in one step; those that can't be taken are told so, and left out. */
  async function stepBatch(run: string, batch: Waiting[]): Promise<void> {
    for (let tries = 1; batch.length; tries++) {
      // What has just been done anew is seldom followed by what was done before: that there is no pass is tried first.
      let missed = await stepOnce(run, batch, tries === 1 && batch.some((one) => one.over?.end.state === 'passed'));
      if (missed === 'shared') missed = await stepShared(run, batch);
      if (missed === null) return;
      if (typeof missed === 'object') {
        const held = batch.filter((one) => one.over)[missed.notHeld];
        for (const one of held ? batch.splice(batch.indexOf(held), 1) : batch.splice(0))
          one.fail(new CodedError('fence_old'));
      } else if (missed === 'changed') forget(run);
      if (tries >= mostTries) throw new Error(`run ${run} could not be taken further: ${String(missed)}`);
    }
  }

  async function stepOnce(run: string, batch: readonly Waiting[], guess: boolean): Promise<Missed | null> {
    const { records } = context();
    const state = known.get(run) ?? (await readRunState(records, run));
    if (!state) throw new Error(`no run ${run}`);
    const { written, tasks, writes } = await writeOne(context(), records, state, batch, { alone: true, guess });
    if (typeof written === 'string' || 'notHeld' in written) return written;
    settle(run, state, tasks, writes, written, batch);
    return null;
  }

  function settle(
    run: string,
    state: RunState,
    tasks: StepTask[],
    writes: StepWrites,
    written: Stepped,
    batch: readonly Waiting[],
  ): void {
    if (writes.ends) forget(run);
    else
      remember(run, {
        ...state,
        version: written.version,
        tasks: withJoined(tasks, written),
        settled: state.row.state === 'running' && !writes.releaseFirst,
      });
    deal(context(), written.claimed, batch);
  }

  /** The attempts' ends with the steps of all runs that have a share in them, in the order of their ids. */
  async function stepShared(run: string, batch: readonly Waiting[]): Promise<Missed | null> {
    const { records } = context();
    const attempts = batch.flatMap((one) => (one.over ? [one.over.end.attempt] : []));
    // What they need is read before anything is locked.
    for (const other of await runsServedBy(records, attempts, run, false))
      await sceneFor(context(), other.id, other.project_id, other.commit);
    let claimed: AttemptRow[] = [];
    try {
      await records.transition('attempt.ended', async (db) => {
        const served = await runsServedBy(db, attempts, run, true);
        for (const [at, one] of served.entries()) {
          forget(one.id);
          const state = await readRunState(db, one.id);
          if (!state) continue;
          const last = at === served.length - 1;
          const { written } = await writeOne(context(), db, state, batch, {
            follows: at > 0,
            claims: last,
            shared: served.map(({ id }) => id),
          });
          if (typeof written === 'string' || 'notHeld' in written) throw new Again(written);
          claimed = claimed.concat(written.claimed);
        }
      });
    } catch (error) {
      if (error instanceof Again) return error.missed;
      throw error;
    }
    deal(context(), claimed, batch);
    return null;
  }

  return {
    take: (run, cause) =>
      new Promise((done, fail) => {
        const one: Waiting = { ...cause, done, fail };
        const queue = queues.get(run);
        if (queue) return void queue.push(one);
        const fresh = [one];
        queues.set(run, fresh);
        void work(run, fresh);
      }),
    known(attempt) {
      const owner = owners.get(attempt);
      const state = owner && known.get(owner.run);
      const row = state?.rows[owner?.at ?? -1];
      if (!state || !row) return null;
      return {
        run: state.row,
        task: row,
        outputs: new Map(
          row.model.needs.flatMap((need) => {
            const output = state.tasks[state.index.byName.get(need) ?? -1]?.output;
            return output ? [[need, output] as const] : [];
          }),
        ),
      };
    },
    runs(attempt) {
      const owner = owners.get(attempt);
      return owner !== undefined && known.get(owner.run)?.tasks[owner.at]?.state === 'running';
    },
    began(run, version, attempts) {
      const state = known.get(run);
      if (!state) return;
      if (BigInt(state.version) + 1n !== BigInt(version)) return forget(run);
      const tasks = state.tasks.map((task) =>
        task.state === 'ready' && task.attempt && attempts.includes(task.attempt.id)
          ? { ...task, state: 'running' as const, attempt: { ...task.attempt, state: 'running' as const } }
          : task,
      );
      remember(run, { ...state, version, tasks });
    },
    learn: remember,
  };
}

/** A transaction that comes to nothing and is made again. */
class Again extends Error {
  constructor(readonly missed: Missed) {
    super('again');
  }
}

/** What was claimed goes to the first that waits with that agent's report, or to the agent that waits for work. */
function deal(
  { takers, records }: Pick<StepContext, 'takers' | 'records'>,
  claimed: readonly AttemptRow[],
  batch: readonly Waiting[],
): void {
  const left = [...claimed];
  for (const one of batch) {
    const own = left.filter((row) => row.agent_id === one.claim?.agent);
    for (const row of own) left.splice(left.indexOf(row), 1);
    one.done(own);
  }
  // Whoever waited for it and is gone by now asks again, and is told of all that it holds.
  if (takers.give(left).length) void notify(records, 'work').catch(() => {});
}

const sceneFor = (context: StepContext, id: string, project: string, commit: string): Promise<RunScene | null> =>
  // A repository that can't be read leaves the run to the engine's loop, which says why.
  sceneOf(context, { id, project_id: project, commit }).catch(() => null);

/** Makes one step and writes it. With `guess` no earlier pass is looked for: the step misses (`meanwhile`) where one counts. */
async function writeOne(
  context: StepContext,
  db: Db,
  state: RunState,
  batch: readonly Waiting[],
  {
    follows = false,
    claims = true,
    shared,
    alone = false,
    guess = false,
  }: { follows?: boolean; claims?: boolean; shared?: readonly string[]; alone?: boolean; guess?: boolean },
): Promise<{ written: Stepped | Missed; tasks: StepTask[]; writes: StepWrites }> {
  const { row } = state;
  const scene = await sceneFor(context, row.id, row.project_id, row.commit);
  const { tasks, writes, ignored } = await makeStep(context, db, state, scene, batch, guess);
  const over = follows ? [] : batch.flatMap((one) => (one.over ? [one.over] : []));
  const body: StepBody = {
    over,
    writes,
    tasksEnded: tasks.filter((task) => taskEnded(task.state)).length,
    ignored,
    forget: batch.find((one) => one.forget)?.forget,
    claims: claims ? claimsOf(context, batch, writes) : [],
    stamp: batch.find((one) => one.stamp)?.stamp,
    ...(shared ? { shared } : {}),
  };
  const write = (on: Db) => writeStep(on, row.id, state.version, body);
  const written = alone
    ? await context.records.single(over.length ? 'attempt.ended' : 'run.advanced', write)
    : await write(db);
  return { written, tasks, writes };
}

/** Agents that report are given more; where none does, those that wait for work. */
function claimsOf({ takers }: Pick<StepContext, 'takers'>, batch: readonly Waiting[], { tries }: StepWrites): Claim[] {
  const claims = batch.flatMap((one) => (one.claim ? [one.claim] : []));
  if (claims.length === 0) return tries.length ? takers.claims() : [];
  return claims.filter((one, at) => claims.findIndex((other) => other.agent === one.agent) === at);
}

async function makeStep(
  context: StepContext,
  db: Db,
  state: RunState,
  scene: RunScene | null,
  batch: readonly Waiting[],
  guess: boolean,
): Promise<{ tasks: StepTask[]; writes: StepWrites; ignored: string[] }> {
  const { row, rows, index, settled } = state;
  const tools: StepTools = {
    newId,
    identify: (task, byName) =>
      identify(scene as RunScene, row, rows[index.byId.get(task.id) ?? -1] as TaskRow, byName),
  };
  const run = stepRunOf(row, {
    main: scene !== null && row.branch === scene.project.main_branch,
    releases: Boolean(scene?.model?.release),
  });
  const ended = batch.flatMap((one) => (one.over ? [one.over.end] : []));
  const passes = new Map<string, StepPass | null>();
  const ignored: string[] = [];
  for (;;) {
    // Without its scene only what has ended is written; the loop takes it from there.
    const step = stepRun(scene ? run : { ...run, state: 'waiting' }, state.tasks, ended, passes, tools, {
      index,
      settled,
    });
    if (!step.ask) {
      if (!scene) step.writes.releaseFirst = true;
      return { ...step, ignored };
    }
    if (guess) for (const key of step.ask) passes.set(key, null);
    else for (const [key, pass] of await lookUp(context, db, row, step.ask, ignored)) passes.set(key, pass);
  }
}

/** The passes that count: with their outputs still there, whole. */
async function lookUp(
  context: Pick<StepContext, 'blobs'>,
  db: Db,
  run: Pick<RunRow, 'project_id' | 'line'>,
  fingerprints: readonly string[],
  ignored: string[],
): Promise<Passes> {
  const found = new Map<string, StepPass | null>(fingerprints.map((one) => [one, null]));
  for (const { fingerprint: key, attempt_id, number, output, output_size, tests, run: of } of await findPasses(
    db,
    run.project_id,
    run.line,
    fingerprints,
  )) {
    if (output === null || (await context.blobs.intact(output, output_size ?? -1)))
      found.set(key, {
        attempt: attempt_id,
        number,
        output: output === null ? null : { digest: output, size: output_size ?? 0 },
        tests,
        run: of,
      });
    // The newest decides: older ones of it do not count instead.
    else ignored.push(...(await passesOf(db, run.project_id, run.line, key)));
  }
  return found;
}

export function identify(
  scene: Pick<RunScene, 'project' | 'files'>,
  run: Pick<RunRow, 'commit' | 'branch'>,
  task: Pick<TaskRow, 'model' | 'pinned'>,
  byName: { get(name: string): { model: Task; output: string | null } | undefined },
): { fingerprint: string; inputs: Record<string, unknown> } {
  const needs = task.model.needs.map((need): NeedOutput => {
    const row = byName.get(need);
    return { need, makes: row?.model.makes ?? [], digest: row?.output ?? null };
  });
  const inputs = fingerprintInputs(task.model as Task, filesOf(scene.files, task.model.reads), needs, {
    project: { name: scene.project.name },
    folder: scene.project.folder,
    run: { commit: run.commit, branch: run.branch },
    ...task.pinned,
  });
  return { fingerprint: fingerprint(inputs), inputs: keptInputs(inputs) };
}
