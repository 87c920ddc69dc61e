/** Which commit broke a task since a release: what the commits between are known to have come to, and which one is asked next. */
import { CodedError } from '../../core/errors/errors.js';
import { halve, type Halved, type Judged } from '../../core/plan/halve.js';
import { firstParents, isBefore } from '../../git/repository.js';
import { evidenceOf, type ReleaseRow } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { runsOfTask } from '../../records/views/history.js';
import { type Context, repositoryOf } from '../context.js';

/** Commits that are looked at, at most. */
const mostCommits = 2_000;

export interface SinceRelease {
  /** Commits since the release's, the oldest first; the last one is the head. */
  commits: string[];
  known: Map<string, Judged>;
  /** The newest run of each of them that says something, or goes on. */
  runs: Map<string, number>;
  /** Runs that have not told yet: commit → run. */
  going: Map<string, number>;
  /** `good`: the task passes at the head. `unclear`: runs of the head end without telling. */
  state: 'good' | 'unclear' | Halved;
}

export async function brokenSince(
  context: Context,
  project: ProjectRow,
  { task, release, head }: { task: string; release: ReleaseRow; head: string },
): Promise<SinceRelease> {
  const repository = repositoryOf(context, project);
  const evidence = await evidenceOf(context.records, release.id);
  const name = `r${release.number}`;
  // Of its shards each has a name of its own.
  if (!evidence.some((one) => one.kind === 'task' && (one.name === task || one.name.startsWith(`${task} `))))
    throw new CodedError('since_unknown', { release: name, task });
  if (!(await isBefore(repository, release.commit, head)))
    throw new CodedError('since_elsewhere', { release: name, commit: head.slice(0, 12) });
  const commits = (await firstParents(repository, release.commit, head, mostCommits + 1)).reverse();
  if (commits.length > mostCommits)
    throw new CodedError('since_far', { release: name, limit: mostCommits.toLocaleString('en') });
  if (commits.length === 0) throw new CodedError('since_same', { release: name });
  const known = new Map<string, Judged>();
  const runs = new Map<string, number>();
  const going = new Map<string, number>();
  for (const { commit, run, verdict } of await runsOfTask(context.records, project.id, commits, task)) {
    if (verdict === 'going') going.set(commit, run);
    // A run that told nothing takes nothing back of one that did.
    else if (verdict !== 'untold' || !known.has(commit)) {
      known.set(commit, verdict === 'passed' ? 'good' : verdict === 'failed' ? 'bad' : 'unclear');
      runs.set(commit, run);
    }
  }
  const atHead = known.get(head);
  const state: SinceRelease['state'] =
    atHead === 'bad'
      ? halve({ commits, known })
      : atHead === undefined
        ? { next: head, left: commits.length, steps: 1 + Math.ceil(Math.log2(commits.length + 1)) }
        : atHead;
  return { commits, known, runs, going, state };
}
