import type { Definition } from '../core/definition/model.js';
import type { ListedFile } from '../core/plan/plan.js';
import { definitionOf, projectById, type ProjectRow } from '../records/projects.js';
import type { RunRow } from '../records/runs.js';
import { type Context, treeOf } from './context.js';

/** What the steps of a run need that does not change while it goes on. */
export interface RunScene {
  project: ProjectRow;
  model: Definition | null;
  files: ListedFile[];
}

/** Read once for each run, and kept for the newest: what it is made of does not change any more. */
export function sceneOf(
  context: Pick<Context, 'records' | 'scenes' | 'repositories' | 'trees'>,
  run: Pick<RunRow, 'id' | 'project_id' | 'commit'>,
): Promise<RunScene> {
  return context.scenes.get(run.id, async () => {
    const [project, definition] = await Promise.all([projectById(context.records, run.project_id), definitionOf(context.records, run.project_id, run.commit)]);
    return { project, model: definition?.model ?? null, files: await treeOf(context, project, run.commit) };
  });
}
