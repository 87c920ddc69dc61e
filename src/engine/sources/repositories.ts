/** The upkeep of repositories: refs that do not belong there, leftovers of killed pushes, packs. */
import { closeObjects } from '../../git/objects.js';
import { dropLeftovers, repack } from '../../git/maintain.js';
import { deleteRefs, foreignRefs } from '../../git/repository.js';
import { recordEvents } from '../../records/events.js';
import { listProjects, noteForeignRefs, type ProjectRow } from '../../records/projects/projects.js';
import { type Context, repositoryOf } from '../context.js';

/** Milliseconds for which nothing was written to a leftover before it is removed. No exchange of git takes longer. */
const leftoverMs = 2 * 3_600_000;
/** Refs that are named in the record. */
const namedAtMost = 20;

/** Deletes refs that are neither branches nor our own, in every repository. One that fails does not keep the others from it. */
export async function clearForeignRefs(context: Context): Promise<void> {
  for (const project of await listProjects(context.records)) await each(context, project, clearOne);
}

/** Leftovers and packs, once an hour. */
export async function tendRepositories(context: Context): Promise<void> {
  for (const project of await listProjects(context.records))
    await each(context, project, async (_, repository) => {
      await clearOne(context, repository, project);
      await dropLeftovers(repository, context.now() - leftoverMs);
      await repack(repository);
    });
}

async function each(
  context: Context,
  project: ProjectRow,
  work: (context: Context, repository: string, project: ProjectRow) => Promise<void>,
): Promise<void> {
  try {
    await work(context, repositoryOf(context, project), project);
  } catch (error) {
    context.log.warn({ project: project.name, error: String(error) }, 'the upkeep of a repository failed');
  }
}

async function clearOne(context: Context, repository: string, project: ProjectRow): Promise<void> {
  const refs = await foreignRefs(repository).catch(() => []);
  if (refs.length === 0) return;
  // Recorded first: if the service is killed in between, the next look finds the refs again.
  await context.records.transition('repository.cleared', async (db) => {
    await noteForeignRefs(db, project.id, refs.slice(0, namedAtMost));
    await recordEvents(db, {
      type: 'repository.cleared',
      project: project.id,
      subject: project.name,
      actor: 'engine',
      data: { refs: refs.slice(0, namedAtMost), count: refs.length },
    });
  });
  await deleteRefs(repository, refs);
  // A reader that is open may still know what a replaced object was.
  closeObjects(repository);
}
