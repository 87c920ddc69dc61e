/** The plan of a commit: which task sees which files. In a thread of its own where the files and patterns are many. */
import type { Definition } from '../../core/definition/model.js';
import { CodedError, type Issue } from '../../core/errors/errors.js';
import type { Occasion } from '../../core/plan/expand.js';
import { type ListedFile, type Plan, rememberFiles, selectionCost } from '../../core/plan/plan.js';
import type { Context } from '../context.js';
import { jobs } from '../apart/jobs.js';

/** Comparisons of a pattern with a path that are made at once, and those that are made at all. */
const little = 500_000;
const most = 20_000_000;

/** Throws `selection_too_large`, and `definition_slow` where it takes too long. */
export async function planApart(
  context: Pick<Context, 'apart'>,
  whom: string,
  model: Definition,
  files: ListedFile[],
  occasion: Occasion,
  attributes: string | null,
): Promise<{ plan: Plan; warnings: Issue[] }> {
  const cost = selectionCost(model, files.length);
  if (cost > most) throw new CodedError('selection_too_large', { files: files.length });
  if (cost <= little) return jobs.plan({ model, files, occasion, attributes });
  const planned = await context.apart.run('plan', whom, { model, files, occasion, attributes });
  // What was chosen there is known here, too: each later step asks for it again.
  for (const { task, files: chosen } of planned.plan.tasks) rememberFiles(files, task.reads, chosen);
  return planned;
}
