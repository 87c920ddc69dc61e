/** One run a step further, inside a transaction that holds its row: what is ready, what is reused, what is skipped, the end. */
import { advanceRun } from '../core/advance/runs.js';
import type { Definition, Task } from '../core/definition/model.js';
import { issue } from '../core/errors.js';
import { fingerprint, fingerprintInputs, keptInputs, type NeedOutput } from '../core/fingerprint/inputs.js';
import { filesOf, type ListedFile } from '../core/plan/plan.js';
import { addAttempts, type AttemptRow, stopAttempts } from '../records/attempts.js';
import { notify } from '../records/database.js';
import { type NewEvent, recordEvents } from '../records/events.js';
import { definitionOf, projectById, type ProjectRow } from '../records/projects.js';
import { findOpenAttempts, findPasses, type PassedResult } from '../records/results.js';
import { holdBlobs } from '../records/space.js';
import { changeTasks, type RunRow, settleRun, type TaskChange, type TaskRow } from '../records/runs.js';
import { wakeWaitingRun } from '../records/order.js';
import { type Context, type Db, treeOf } from './context.js';

/** What an advance needs that does not change while the run goes on; read before the transaction. */
export interface AdvanceScene {
  project: ProjectRow;
  model: Definition | null;
  files: ListedFile[];
}

/** Read once for each run, and kept for the newest: what it is made of does not change any more. */
export function advanceScene(context: Context, run: Pick<RunRow, 'id' | 'project_id' | 'commit'>): Promise<AdvanceScene> {
  return context.scenes.get(run.id, async () => {
    const [project, definition] = await Promise.all([projectById(context.records, run.project_id), definitionOf(context.records, run.project_id, run.commit)]);
    return { project, model: definition?.model ?? null, files: await treeOf(context, project, run.commit) };
  });
}

/** All evidence is there. */
export const complete = (rows: readonly TaskRow[]): boolean =>
  rows.filter((task) => task.evidence).every((task) => task.state === 'passed' || task.state === 'reused');

/** What this transaction knows already: one task that has just ended, to be written with what follows from it. */
export interface JustEnded {
  change: TaskChange;
  events: NewEvent[];
}

/** Why a run is to end before its tasks have. */
export const endingOf = (run: Pick<RunRow, 'stopped_by' | 'superseded_by'>): 'stopped' | 'superseded' | null =>
  run.stopped_by !== null ? 'stopped' : run.superseded_by !== null ? 'superseded' : null;

/** Advances a run whose row this transaction has locked. A release that is to be made first leaves the run due. */
export async function advanceIn(
  context: Pick<Context, 'blobs'>,
  db: Db,
  scene: AdvanceScene,
  run: RunRow,
  rows: readonly TaskRow[],
  attempts: readonly AttemptRow[],
  just: JustEnded | null = null,
): Promise<void> {
  const { project, model } = scene;
  const event = (type: NewEvent['type'], data: Record<string, unknown>): NewEvent => ({
    type,
    project: project.id,
    subject: `run ${run.number}`,
    actor: 'engine',
    data,
  });
  const changes = new Map<string, TaskChange>();
  const events: NewEvent[] = [...(just?.events ?? [])];
  const now = new Map(rows.map((row) => [row.id, row]));
  const put = (change: TaskChange) => {
    changes.set(change.id, { ...changes.get(change.id), ...change });
    const row = now.get(change.id) as TaskRow;
    now.set(change.id, {
      ...row,
      state: change.state,
      fingerprint: change.fingerprint ?? row.fingerprint,
      output: change.output?.digest ?? row.output,
      attempt_id: change.attempt ?? row.attempt_id,
    });
  };
  if (just) put(just.change);
  const ending = endingOf(run);
  const tries = new Set<string>();
  let ends: ReturnType<typeof advanceRun>['ends'] = null;
  let first = false;
  // Each round may reuse tasks, which makes those that need them ready at once.
  for (let again = run.state === 'running'; again; ) {
    again = false;
    const list = [...now.values()];
    first = Boolean(model?.release && !run.released && !ending && complete(list));
    if (first) break;
    const byName = new Map(list.map((row) => [row.name, row]));
    const step = advanceRun(
      list.map((row) => factOf(row, attempts)),
      ending,
    );
    ends = step.ends;
    const ready: TaskRow[] = [];
    for (const change of step.tasks) {
      const task = byName.get(change.name) as TaskRow;
      if (change.state === 'ready') {
        put({ id: task.id, state: 'ready', ...identify(scene, run, task, byName) });
        ready.push(now.get(task.id) as TaskRow);
      } else {
        put({ id: task.id, state: change.state });
        tries.delete(task.id);
        events.push(event(change.state === 'skipped' ? 'task.skipped' : 'task.ended', { task: task.name, state: change.state }));
      }
    }
    const passes = await usablePasses(context, db, run, ready);
    for (const task of ready) {
      const pass = passes.get(task.fingerprint as string);
      if (pass) {
        put({
          id: task.id,
          state: 'reused',
          attempt: pass.attempt_id,
          output: pass.output === null ? null : { digest: pass.output, size: pass.output_size ?? 0 },
          tests: pass.tests,
        });
        events.push(event('task.reused', { task: task.name, run: pass.run }));
        again = true;
      } else {
        tries.add(task.id);
        events.push(event('task.ready', { task: task.name }));
      }
    }
  }
  const wanted = [...tries].map((id) => now.get(id) as TaskRow);
  for (const { task, attempt, state } of wanted.length ? await workFor(db, scene.project, run, wanted, attempts) : [])
    put({ id: task.id, state: state === 'running' ? 'running' : 'ready', attempt });
  if (changes.size) await changeTasks(db, [...changes.values()]);
  const cut = [...changes.values()].filter((one) => one.state === 'stopped' || one.state === 'superseded').map((one) => one.id);
  if (cut.length) await stopAttempts(db, cut);
  if (ends) {
    events.push(event('run.ended', { state: ends }));
    await wakeWaitingRun(db, run);
  }
  await settleRun(db, run.id, { dueInMs: first ? 0 : null, ...(ends ? { ends: { state: ends, issue: endIssue(run, ends) } } : {}) });
  await recordEvents(db, ...events);
}

function endIssue(run: RunRow, ends: string) {
  if (ends === 'stopped' && run.stopped_by) return issue('stopped_by', { who: run.stopped_by });
  return ends === 'superseded' && run.superseded_by ? issue('superseded_by', { run: run.superseded_by }) : null;
}

/** A ready task whose attempt was claimed runs already, though its agent has not said so yet. */
function factOf(row: TaskRow, attempts: readonly AttemptRow[]) {
  const attempt = attempts.find((one) => one.id === row.attempt_id);
  return {
    name: row.name,
    state: row.state === 'ready' && attempt?.state === 'running' ? ('running' as const) : row.state,
    needs: row.model.needs,
    shared: attempt !== undefined && attempt.task_id !== row.id,
  };
}

export function identify(
  scene: Pick<AdvanceScene, 'project' | 'files'>,
  run: Pick<RunRow, 'commit' | 'branch'>,
  task: Pick<TaskRow, 'model' | 'pinned'>,
  byName: ReadonlyMap<string, Pick<TaskRow, 'model' | 'output'>>,
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

/** Whether an earlier pass of this task may count in this run. */
export const mayReuse = (run: Pick<RunRow, 'fresh'>, model: Pick<Task, 'reuse' | 'of'>): boolean =>
  model.reuse && (run.fresh === null || (run.fresh.length > 0 && !run.fresh.includes(model.of)));

/** Passes that count: with their outputs still there, whole. */
async function usablePasses(context: Pick<Context, 'blobs'>, db: Db, run: RunRow, tasks: readonly TaskRow[]): Promise<Map<string, PassedResult>> {
  const wanted = tasks.filter((task) => mayReuse(run, task.model)).map((task) => task.fingerprint as string);
  const usable = new Map<string, PassedResult>();
  if (wanted.length === 0) return usable;
  const passes = await findPasses(db, run.project_id, run.line, wanted);
  if (passes.some((pass) => pass.output !== null)) await holdBlobs(db);
  for (const pass of passes) {
    if (pass.output === null || (await context.blobs.intact(pass.output, pass.output_size ?? -1))) usable.set(pass.fingerprint, pass);
  }
  return usable;
}

/** An attempt for each of these ready tasks: one that is under way for another run, or a new one. */
async function workFor(
  db: Db,
  project: ProjectRow,
  run: RunRow,
  tasks: readonly TaskRow[],
  attempts: readonly AttemptRow[],
): Promise<{ task: TaskRow; attempt: string; state: 'waiting' | 'running' }[]> {
  const sharing = tasks.filter((task) => mayReuse(run, task.model));
  const open = sharing.length
    ? await findOpenAttempts(
        db,
        run.project_id,
        run.line,
        sharing.map((task) => task.fingerprint as string),
      )
    : [];
  const joined = tasks.flatMap((task) => {
    const other = sharing.includes(task) ? open.find((one) => one.fingerprint === task.fingerprint) : undefined;
    return other ? [{ task, attempt: other.attempt_id, state: other.state }] : [];
  });
  // A claim passes over what is locked here: agents are asked to look again.
  if (joined.length) await notify(db, 'work');
  const own = tasks.filter((task) => !joined.some((one) => one.task === task));
  const ids = await newTries(db, project, run, own, attempts);
  return [...joined, ...own.map((task, at) => ({ task, attempt: ids[at] as string, state: 'waiting' as const }))];
}

/** Another attempt for each of these ready tasks; `before` are the attempts of the run so far. Gives their ids. */
export async function newTries(
  db: Db,
  project: Pick<ProjectRow, 'main_branch'>,
  run: Pick<RunRow, 'project_id' | 'line' | 'branch' | 'pull_request'>,
  tasks: readonly TaskRow[],
  before: readonly AttemptRow[],
): Promise<string[]> {
  if (tasks.length === 0) return [];
  const priority = run.line !== 'own' ? 4 : run.pull_request !== null ? 3 : run.branch === project.main_branch ? 1 : 2;
  return addAttempts(
    db,
    tasks.map((task) => ({
      kind: 'task',
      task: task.id,
      deployment: null,
      project: run.project_id,
      number: before.filter((one) => one.task_id === task.id).length + 1,
      needs: { takes: run.line === 'own' ? 'runs' : 'untrusted', base: task.pinned.base || null },
      priority,
    })),
  );
}
