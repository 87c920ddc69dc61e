/** Where the change of a review leads to. */
import type { Definition } from '../../core/definition/model.js';
import { type EnvironmentRow, findEnvironment } from '../../records/deployments/environments.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { findPullRequest } from '../../records/projects/sources.js';
import type { Db } from '../context.js';

/** The branch of its pull request's base; of a review by hand the main branch. */
export async function baseOf(
  db: Db,
  project: Pick<ProjectRow, 'id' | 'main_branch'>,
  { pull_request }: Pick<EnvironmentRow, 'pull_request'>,
): Promise<string> {
  const pull = pull_request === null ? null : await findPullRequest(db, project.id, pull_request);
  return pull?.base || project.main_branch;
}

/** The environment that shows what is on a branch, as main declares it; null: there is none (yet). */
export async function environmentOfBranch(
  db: Db,
  project: Pick<ProjectRow, 'id'>,
  main: { model: Pick<Definition, 'environments'> } | null,
  branch: string,
): Promise<EnvironmentRow | null> {
  const plan = Object.values(main?.model.environments ?? {}).find((one) => one.branch === branch);
  return plan ? findEnvironment(db, project.id, plan.name) : null;
}
