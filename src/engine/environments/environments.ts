/** What environments take by themselves; and the rest of their lives, when its time has come. */
import { newerThan, releaseSource } from '../../core/advance/enter.js';
import { takes } from '../../core/advance/environments.js';
import { issue } from '../../core/errors/errors.js';
import { history } from '../../git/repository.js';
import { deploymentsOf, movingDeployments, releasedBy, asPast } from '../../records/deployments/deployments.js';
import {
  environmentById,
  type EnvironmentRow,
  lockEnvironment,
  setWaits,
} from '../../records/deployments/environments.js';
import { mainDefinition, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { findRelease, newestOfPullRequest, releasesOfCommits } from '../../records/deployments/releases.js';
import { type Due, settleDue, takeDue } from '../../records/runs/runs.js';
import { syncAddresses } from '../domains/acts.js';
import { askDeployment } from '../deployments/acts.js';
import { beginAtOnce } from '../deployments/deployments.js';
import { verifiedRelease } from '../deployments/promotions.js';
import { shownSecrets } from '../../core/variables/resolve.js';
import { stepLife } from './life.js';
import { variablesFor } from './variables.js';
import { resourcesOf } from '../../records/resources/resources.js';
import { branchHead } from '../../records/projects/sources.js';
import { type Context, type Db, repositoryOf } from '../context.js';

export async function stepEnvironments(context: Context): Promise<boolean> {
  const due = await takeDue(context.records, 'environments', context.timing.lease);
  if (!due) return false;
  const { id } = due;
  const environment = await environmentById(context.records, id);
  const project = await projectById(context.records, environment.project_id);
  const { state } = environment;
  if (state === 'closing' || state === 'falling asleep' || state === 'waking') await goOn(context, environment, due);
  else await takeByItself(context, project, environment, due);
  return true;
}

/** On its way to sleep, awake, or to its end. */
async function goOn(context: Context, seen: EnvironmentRow, due: Due): Promise<void> {
  const sessions =
    seen.state === 'falling asleep' && seen.depth === 'frozen' ? await sessionsOf(context, seen.id) : null;
  await context.records.transition(`environment.${seen.state.replace(' ', '-')}`, async (db) => {
    const environment = await lockEnvironment(db, seen.id);
    await settleDue(db, 'environments', due, null);
    await stepLife({ context, db, environment }, sessions);
  });
}

/** Sessions of its databases that are in the middle of something; a server that does not answer tells of none, and the look is repeated. */
async function sessionsOf(context: Context, id: string): Promise<number | null> {
  const rows = (await resourcesOf(context.records, id)).filter(
    (row) => row.kind === 'postgres' && row.state === 'ready',
  );
  try {
    let busy = 0;
    for (const place of new Set(rows.map((row) => row.place))) {
      const own = rows.filter((row) => row.place === place && place !== 'elsewhere');
      if (own[0]) busy += await context.kinds.database(own[0]).busy(own.map((row) => row.id));
    }
    return busy;
  } catch (error) {
    context.log.warn({ environment: id, error: String(error) }, 'the sessions of an environment were not seen');
    return null;
  }
}

async function takeByItself(context: Context, project: ProjectRow, seen: EnvironmentRow, due: Due): Promise<void> {
  const main = await mainDefinition(context.records, project.id);
  const candidates = await candidatesFor(context, project, seen, main);
  await context.records.transition('environment.taken', async (db) => {
    const environment = await lockEnvironment(db, seen.id);
    // What was committed since the candidates were read has woken it again.
    await settleDue(db, 'environments', due, null);
    if (takesReleases(environment))
      await syncAddresses(db, project, environment, main?.model.environments[environment.plan_name]?.addresses ?? []);
    await takeNewest(context, db, project, environment, candidates);
    await stepLife({ context, db, environment: await environmentById(db, environment.id) });
  });
}

const takesReleases = ({ state }: EnvironmentRow): boolean => state !== 'closing' && state !== 'closed';

async function takeNewest(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  candidates: number[],
): Promise<void> {
  const past = await deploymentsOf(db, environment.id, 200);
  const live = past.find((one) => one.id === environment.live_id)?.release ?? null;
  const take = takes({
    held: environment.held_by !== null,
    open: takesReleases(environment),
    moving: (await movingDeployments(db, environment.id)).length > 0,
    liveRelease: live,
    candidates,
    // What was here before it was closed is no reason not to take it again.
    history: past.filter((one) => one.created_at >= environment.opened_at).map(asPast),
  });
  const release = take === null ? null : await findRelease(db, project.id, take);
  if (!release) return environment.issue ? setWaits(db, environment.id, null) : undefined;
  // What is missing is said where people look; the environment looks again when somebody has set it.
  const { unset, secrets } = await variablesFor(context, db, { project, environment, release });
  const shown = shownSecrets(release.plan, secrets);
  const missing = unset.length
    ? issue('variable_unset', { names: unset.join(', '), environment: `${project.name}/${environment.name}` })
    : shown.length
      ? issue('settings_secret', { name: shown.join(', ') })
      : null;
  if (missing || environment.issue) await setWaits(db, environment.id, missing);
  if (missing) return;
  const ask = { project, environment, release, kind: 'automatic' as const, actor: 'engine' };
  await beginAtOnce(context, db, await askDeployment(context, db, ask));
}

/** Releases that it may take by itself, the newest by commit order first. */
async function candidatesFor(
  context: Context,
  project: ProjectRow,
  environment: EnvironmentRow,
  main: Awaited<ReturnType<typeof mainDefinition>>,
): Promise<number[]> {
  const { records } = context;
  const source = releaseSource(main?.model.environments[environment.plan_name], environment);
  if (!main || !source) return [];
  if (source.from === 'pull request') {
    const newest = await newestOfPullRequest(records, project.id, source.number, environment.outside);
    return newest ? [newest.number] : [];
  }
  if (source.from === 'environment') {
    const verified = await verifiedRelease(records, project, source.name, main.model);
    return verified ? [verified.number] : [];
  }
  const head = await branchHead(records, project.id, source.name);
  if (!head) return [];
  const live = environment.live_id ? await releasedBy(records, environment.live_id) : null;
  const newer = newerThan(await history(repositoryOf(context, project), head, 500), live?.commit ?? null);
  const releases = new Map(
    (await releasesOfCommits(records, project.id, newer, source.name)).map((row) => [row.commit, row.number]),
  );
  return newer.flatMap((commit) => releases.get(commit) ?? []);
}
