/** Runs on their way: what is ready, what is skipped, the release, the end. */
import { advanceRun } from '../core/advance/runs.js';
import type { Task } from '../core/definition/model.js';
import { issue } from '../core/errors.js';
import { fingerprint, fingerprintInputs, keptInputs, type NeedOutput } from '../core/fingerprint/inputs.js';
import { filesOf } from '../core/plan/plan.js';
import { addAttempt, attemptsOfRun, attemptsOfTask } from '../records/attempts.js';
import { recordEvents } from '../records/events.js';
import { definitionOf, projectById, type ProjectRow } from '../records/projects.js';
import { endRun, lockRun, runById, type RunRow, setDue, setFingerprint, setTaskState, takeDue, type TaskRow, tasksOf } from '../records/runs.js';
import { type Context, type Db, treeOf } from './context.js';
import { planWaitingRun } from './planning.js';
import { makeRelease } from './releases.js';

/** Takes one run that is due a step further. */
export async function stepRuns(context: Context): Promise<boolean> {
  const id = await takeDue(context.records, 'runs', context.timing.lease);
  if (!id) return false;
  const run = await runById(context.records, id);
  if (run?.state === 'waiting') await planWaitingRun(context, id);
  else if (run?.state === 'running') await advance(context, run);
  return true;
}

async function advance(context: Context, run: RunRow): Promise<void> {
  const [project, tasks, definition] = await Promise.all([
    projectById(context.records, run.project_id),
    tasksOf(context.records, run.id),
    definitionOf(context.records, run.project_id, run.commit),
  ]);
  // Reads of git come before the transaction; they depend on the commit alone.
  const files = tasks.some((task) => task.state === 'waiting' && task.fingerprint === null) ? await treeOf(context, project, run.commit) : [];
  const model = definition?.model ?? null;

  const complete = (rows: TaskRow[]) => rows.filter((task) => task.evidence).every((task) => task.state === 'passed' || task.state === 'reused');
  if (model?.release && !run.released && !run.stopped_by && complete(tasks)) await makeRelease(context, project, run, model.release, tasks);

  await context.records.transition('run.advanced', async (db) => {
    const now = await lockRun(db, run.id);
    if (now?.state !== 'running') return;
    const rows = await tasksOf(db, run.id);
    if (model?.release && !now.released && !now.stopped_by && complete(rows)) return void (await setDue(db, 'runs', run.id, 0));
    // A ready task whose attempt was claimed runs already, though its agent has not said so yet.
    const claimed = new Set((await attemptsOfRun(db, run.id)).flatMap((one) => (one.state === 'running' ? [one.task_id] : [])));
    const factOf = (row: TaskRow) => ({
      name: row.name,
      state: row.state === 'ready' && claimed.has(row.id) ? ('running' as const) : row.state,
      needs: row.model.needs,
    });
    const step = advanceRun(rows.map(factOf), now.stopped_by !== null);
    const byName = new Map(rows.map((row) => [row.name, row]));
    const subject = `run ${run.number}`;
    for (const change of step.tasks) {
      const task = byName.get(change.name) as TaskRow;
      if (change.state === 'ready') await makeReady(db, project, now, task, byName, files);
      else {
        await setTaskState(db, task.id, change.state);
        if (change.state === 'stopped')
          await db.rows(`update attempts set state = 'stopped', ended_at = now() where task_id = $1 and state = 'waiting'`, [task.id]);
        await recordEvents(db, {
          type: change.state === 'skipped' ? 'task.skipped' : 'task.ended',
          project: project.id,
          subject,
          actor: 'engine',
          data: { task: task.name, state: change.state },
        });
      }
    }
    await db.rows(
      `update runs set tasks_ended = (select count(*) from tasks where run_id = $1 and state not in ('waiting', 'ready', 'running')) where id = $1`,
      [run.id],
    );
    if (step.ends) {
      await endRun(db, run.id, step.ends, step.ends === 'stopped' && now.stopped_by ? issue('stopped_by', { who: now.stopped_by }) : null);
      await recordEvents(db, { type: 'run.ended', project: project.id, subject, actor: 'engine', data: { state: step.ends } });
    } else await setDue(db, 'runs', run.id, null);
  });
}

async function makeReady(
  db: Db,
  project: ProjectRow,
  run: RunRow,
  task: TaskRow,
  byName: Map<string, TaskRow>,
  listed: Awaited<ReturnType<typeof treeOf>>,
): Promise<void> {
  const needs = task.model.needs.map((need): NeedOutput => {
    const row = byName.get(need);
    return { need, makes: row?.model.makes ?? [], digest: row?.output ?? null };
  });
  const inputs = fingerprintInputs(task.model as Task, filesOf(listed, task.model.reads), needs, {
    project: project.name,
    folder: project.folder,
    ...task.pinned,
  });
  await setFingerprint(db, task.id, fingerprint(inputs), keptInputs(inputs));
  await setTaskState(db, task.id, 'ready');
  await recordEvents(db, { type: 'task.ready', project: project.id, subject: `run ${run.number}`, actor: 'engine', data: { task: task.name } });
  await newTry(db, run, task);
}

/** Another attempt of a ready task. */
export async function newTry(db: Db, run: RunRow, task: TaskRow): Promise<void> {
  const number = (await attemptsOfTask(db, task.id)).length + 1;
  await addAttempt(db, {
    kind: 'task',
    task: task.id,
    deployment: null,
    project: run.project_id,
    number,
    needs: { class: run.line === 'own' ? 'runs' : 'untrusted', base: task.pinned.base || null },
  });
}
