/** Runs on their way: planned, advanced, released. */
import { complete, endingOf } from '../../core/advance/step.js';
import { CodedError } from '../../core/errors/errors.js';
import { type Due, runById, type RunRow, settleDue, tasksOf } from '../../records/runs/runs.js';
import type { Context } from '../context.js';
import { failRun, planWaitingRun } from './planning.js';
import { makeRelease } from './releases.js';
import { sceneOf } from './scene.js';

/** Takes one run that is due a step further. */
export async function stepRun(context: Context, due: Due): Promise<void> {
  const run = await runById(context.records, due.id);
  if (run?.state === 'waiting') await planWaitingRun(context, due, run);
  else if (run?.state === 'running') await advance(context, run, due);
  else await settleDue(context.records, 'runs', due, null);
}

async function advance(context: Context, run: RunRow, due: Due): Promise<void> {
  const scene = await sceneOf(context, run);
  const { release } = scene.model ?? {};
  if (release && !run.released && !endingOf({ stoppedBy: run.stopped_by, supersededBy: run.superseded_by })) {
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
  await context.steps.take(run.id, { stamp: due.stamp });
}
