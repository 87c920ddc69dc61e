/** Runs on their way: planned, advanced, released. */
import { CodedError } from '../core/errors.js';
import { attemptsOfRun } from '../records/attempts.js';
import { lockRun, runById, type RunRow, takeDue, tasksOf } from '../records/runs.js';
import { advanceIn, advanceScene, complete, endingOf } from './advance.js';
import type { Context } from './context.js';
import { failRun, planWaitingRun } from './planning.js';
import { makeRelease } from './releases.js';

/** Takes one run that is due a step further. */
export async function stepRuns(context: Context): Promise<boolean> {
  const due = await takeDue(context.records, 'runs', context.timing.lease);
  if (!due) return false;
  const run = await runById(context.records, due.id);
  if (run?.state === 'waiting') await planWaitingRun(context, due);
  else if (run?.state === 'running') await advance(context, run);
  return true;
}

async function advance(context: Context, run: RunRow): Promise<void> {
  const scene = await advanceScene(context, run);
  const { release } = scene.model ?? {};
  if (release && !run.released && !endingOf(run)) {
    const tasks = await tasksOf(context.records, run.id);
    if (complete(tasks)) {
      try {
        await makeRelease(context, scene.project, run, release, tasks);
      } catch (error) {
        if (!(error instanceof CodedError)) throw error;
        return failRun(context, run.id, error.issue);
      }
    }
  }
  await context.records.transition('run.advanced', async (db) => {
    const now = await lockRun(db, run.id);
    if (now?.state === 'running') await advanceIn(context, db, scene, now, await tasksOf(db, run.id), await attemptsOfRun(db, run.id));
  });
}
