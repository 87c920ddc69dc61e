/** What the tests of a run cover: of all lines, and of those that its change touches. Git is asked once for two commits. */
import { type Coverage, coverageOf } from '../../core/results/coverage.js';
import { changedLines, mergeBase } from '../../git/changes.js';
import { commitFacts } from '../../git/repository.js';
import { coverageOfTasks } from '../../records/runs/coverage.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { RunRow } from '../../records/runs/runs.js';
import { branchHead, findPullRequest } from '../../records/projects/sources.js';
import { type Context, repositoryOf } from '../context.js';

export interface RunCoverage {
  /** The commit that the change is told against; null for a first commit. */
  base: string | null;
  tasks: { task: string; found: number; hit: number; changed: Coverage | null }[];
}

export async function coverageOfRun(context: Context, project: ProjectRow, run: RunRow): Promise<RunCoverage> {
  const tasks = await coverageOfTasks(context.records, run.id);
  if (tasks.length === 0) return { base: null, tasks: [] };
  const base = await baseOf(context, project, run);
  const changed =
    base === null
      ? null
      : await context.changes.forceFetch(`${project.id} ${base} ${run.commit}`, {
          context: () => changedLines(repositoryOf(context, project), base, run.commit, project.folder),
        });
  return {
    base,
    tasks: tasks.map(({ task, found, hit, files }) => ({
      task,
      found,
      hit,
      changed: changed && coverageOf({ files }, changed),
    })),
  };
}

/** Where the branch parted from the one that it goes to; on main, and when it is there already, the commit before. */
async function baseOf(context: Context, project: ProjectRow, run: RunRow): Promise<string | null> {
  const { records } = context;
  const repository = repositoryOf(context, project);
  const pull = run.pull_request === null ? null : await findPullRequest(records, project.id, run.pull_request);
  const target = pull ? pull.base : run.branch === project.main_branch ? null : project.main_branch;
  const head = target === null ? null : await branchHead(records, project.id, target);
  const parted = head === null ? null : await mergeBase(repository, head, run.commit);
  if (parted !== null && parted !== run.commit) return parted;
  return (await commitFacts(repository, run.commit))?.parents[0] ?? null;
}
