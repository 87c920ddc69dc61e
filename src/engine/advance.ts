/** One run a step further, inside a transaction that holds its row: what is ready, what is skipped, the end. */
import { advanceRun } from '../core/advance/runs.js';
import type { Definition, Task } from '../core/definition/model.js';
import { issue } from '../core/errors.js';
import { fingerprint, fingerprintInputs, keptInputs, type NeedOutput } from '../core/fingerprint/inputs.js';
import { filesOf, type ListedFile } from '../core/plan/plan.js';
import { addAttempts, type AttemptRow, stopAttempts } from '../records/attempts.js';
import { type NewEvent, recordEvents } from '../records/events.js';
import { definitionOf, projectById, type ProjectRow } from '../records/projects.js';
import { changeTasks, type RunRow, settleRun, type TaskChange, type TaskRow } from '../records/runs.js';
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

/** Advances a run whose row this transaction has locked. A release that is to be made first leaves the run due. */
export async function advanceIn(
  db: Db,
  scene: AdvanceScene,
  run: RunRow,
  rows: readonly TaskRow[],
  attempts: readonly AttemptRow[],
  just: JustEnded | null = null,
): Promise<void> {
  const { project, model } = scene;
  const changes: TaskChange[] = just ? [just.change] : [];
  const events: NewEvent[] = [...(just?.events ?? [])];
  const now = rows.map((row) =>
    just && row.id === just.change.id ? { ...row, state: just.change.state, output: just.change.output?.digest ?? row.output } : row,
  );
  const first = Boolean(model?.release && !run.released && !run.stopped_by && complete(now));
  const step =
    first || run.state !== 'running'
      ? { tasks: [], ends: null }
      : advanceRun(
          now.map((row) => factOf(row, attempts)),
          run.stopped_by !== null,
        );
  const byName = new Map(now.map((row) => [row.name, row]));
  const event = (type: NewEvent['type'], data: Record<string, unknown>): NewEvent => ({
    type,
    project: project.id,
    subject: `run ${run.number}`,
    actor: 'engine',
    data,
  });
  const tries: TaskRow[] = [];
  for (const change of step.tasks) {
    const task = byName.get(change.name) as TaskRow;
    if (change.state === 'ready') {
      changes.push({ id: task.id, state: 'ready', ...identify(scene, task, byName) });
      events.push(event('task.ready', { task: task.name }));
      tries.push(task);
    } else {
      changes.push({ id: task.id, state: change.state });
      events.push(event(change.state === 'skipped' ? 'task.skipped' : 'task.ended', { task: task.name, state: change.state }));
    }
  }
  if (changes.length) await changeTasks(db, changes);
  const stopped = changes.filter((one) => one.state === 'stopped').map((one) => one.id);
  if (stopped.length) await stopAttempts(db, stopped);
  if (tries.length) await newTries(db, run, tries, attempts);
  const { ends } = step;
  if (ends) events.push(event('run.ended', { state: ends }));
  await settleRun(db, run.id, {
    dueInMs: first ? 0 : null,
    ...(ends ? { ends: { state: ends, issue: ends === 'stopped' && run.stopped_by ? issue('stopped_by', { who: run.stopped_by }) : null } } : {}),
  });
  await recordEvents(db, ...events);
}

/** A ready task whose attempt was claimed runs already, though its agent has not said so yet. */
const factOf = (row: TaskRow, attempts: readonly AttemptRow[]) => ({
  name: row.name,
  state: row.state === 'ready' && attempts.some((one) => one.task_id === row.id && one.state === 'running') ? ('running' as const) : row.state,
  needs: row.model.needs,
});

function identify(scene: AdvanceScene, task: TaskRow, byName: ReadonlyMap<string, TaskRow>): { fingerprint: string; inputs: unknown } {
  const needs = task.model.needs.map((need): NeedOutput => {
    const row = byName.get(need);
    return { need, makes: row?.model.makes ?? [], digest: row?.output ?? null };
  });
  const inputs = fingerprintInputs(task.model as Task, filesOf(scene.files, task.model.reads), needs, {
    project: scene.project.name,
    folder: scene.project.folder,
    ...task.pinned,
  });
  return { fingerprint: fingerprint(inputs), inputs: keptInputs(inputs) };
}

/** Another attempt for each of these ready tasks; `before` are the attempts of the run so far. */
export async function newTries(db: Db, run: RunRow, tasks: readonly TaskRow[], before: readonly AttemptRow[]): Promise<void> {
  await addAttempts(
    db,
    tasks.map((task) => ({
      kind: 'task',
      task: task.id,
      deployment: null,
      project: run.project_id,
      number: before.filter((one) => one.task_id === task.id).length + 1,
      needs: { class: run.line === 'own' ? 'runs' : 'untrusted', base: task.pinned.base || null },
    })),
  );
}
