import { definitionOf, projectById } from '../../records/projects/projects.js';
import type { RunRow } from '../../records/runs/runs.js';
import { type Context, type RunScene, treeOf } from '../context.js';

/** Read once for each run, and kept for the newest: what it is made of does not change any more. */
export function sceneOf(
  context: Pick<Context, 'records' | 'scenes' | 'repositories' | 'trees'>,
  run: Pick<RunRow, 'id' | 'project_id' | 'commit'>,
): Promise<RunScene> {
  return context.scenes.forceFetch(run.id, {
    context: async () => {
      const [project, definition] = await Promise.all([
        projectById(context.records, run.project_id),
        definitionOf(context.records, run.project_id, run.commit),
      ]);
      return { project, model: definition?.model ?? null, files: await treeOf(context, project, run.commit) };
    },
  });
}
