/** What the service knows more than an agent: whether a file that was not found is in the repository. */
import type { Issue } from '../../core/errors/errors.js';
import { issue } from '../../core/errors/errors.js';
import { projectById } from '../../records/projects/projects.js';
import { type Context, treeOf } from '../context.js';

/** `key` is where the definition says what the work sees: `reads of unit`, `files of api`. */
export async function refine(
  context: Context,
  project: string,
  commit: string,
  why: Issue | null,
  key: string,
): Promise<Issue | null> {
  if (why?.code !== 'file_missing') return why;
  const { path } = why.data;
  const files = await treeOf(context, await projectById(context.records, project), commit);
  return files.some((file) => file.path === path || file.path?.startsWith(`${path}/`))
    ? issue('file_undeclared', { ...why.data, key })
    : why;
}
