/** Which commit broke a task, as the API gives it. */
import { brokenSince } from '../../engine/runs/since.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { pullsOfCommits } from '../../records/projects/sources.js';
import { commitFacts } from '../../git/repository.js';
import { repositoryOf } from '../../engine/context.js';
import type { Commit } from '../../wire/projects.js';
import type { SinceView } from '../../wire/why.js';
import type { Service } from '../server.js';
import { factsView } from './basics.js';

/** Commits that could not be judged and are told one by one. */
const mostDoubt = 50;

export async function sinceView(
  { context }: Service,
  project: ProjectRow,
  asked: { task: string; release: ReleaseRow; head: string },
): Promise<SinceView> {
  const { commits, known, runs, going, state } = await brokenSince(context, project, asked);
  const { task, release, head } = asked;
  const repository = repositoryOf(context, project);
  const facts = async (id: string): Promise<Commit> => {
    const one = await commitFacts(repository, id);
    return factsView(one ?? { id, title: '', author: '', at: new Date(0) });
  };
  const told = typeof state === 'string' ? [] : 'next' in state ? [state.next] : [state.first, ...state.doubt];
  const pulls = await pullsOfCommits(context.records, project.id, told);
  const judged = async (id: string) => ({
    ...(await facts(id)),
    verdict: known.get(id) ?? null,
    run: runs.get(id) ?? null,
    pull: pulls.get(id) ?? null,
  });
  const asks = typeof state !== 'string' && 'next' in state ? state : null;
  const found = typeof state !== 'string' && 'first' in state ? state : null;
  return {
    task,
    release: release.number,
    from: await facts(release.commit),
    head: await facts(head),
    commits: commits.length,
    state: typeof state === 'string' ? state : asks ? 'ask' : 'found',
    next: asks ? await judged(asks.next) : null,
    going: asks ? (going.get(asks.next) ?? null) : null,
    left: asks?.left ?? (found ? 1 + found.doubt.length : 0),
    steps: asks?.steps ?? 0,
    first: found ? await judged(found.first) : null,
    doubt: found ? await Promise.all(found.doubt.slice(0, mostDoubt).map(judged)) : [],
  };
}
