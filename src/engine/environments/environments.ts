/** What environments take by themselves, and how they close. */
import { newerThan, releaseSource } from '../../core/advance/enter.js';
import { takes } from '../../core/advance/environments.js';
import { closeEnvironment } from '../../core/advance/keep.js';
import { issue } from '../../core/errors/errors.js';
import { history } from '../../git/repository.js';
import { hasTable, listEdges, putRoute, routeBody } from '../../records/callers/edges.js';
import {
  deploymentsOf,
  movingDeployments,
  setDeploymentState,
  attemptsGoOn,
  endLive,
  stopAttemptsOf,
  releasedBy,
  asPast,
} from '../../records/deployments/deployments.js';
import {
  endClosing,
  environmentById,
  type EnvironmentRow,
  lockEnvironment,
  setServing,
  setWaits,
} from '../../records/deployments/environments.js';
import { notify } from '../../records/database.js';
import { recordEvents } from '../../records/events.js';
import { removeJobsOf, stopJobsOf } from '../../records/jobs/jobs.js';
import { instancesOfEnvironment, unwant } from '../../records/deployments/instances.js';
import { mainDefinition, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { findRelease, newestOfPullRequest, releasesOfCommits } from '../../records/deployments/releases.js';
import { type Due, setDue, settleDue, takeDue } from '../../records/runs/runs.js';
import { removeAddressesOf, syncAddresses } from '../domains/acts.js';
import { askDeployment } from '../deployments/acts.js';
import { verifiedRelease } from '../deployments/promotions.js';
import { shownSecrets } from '../../core/variables/resolve.js';
import { variablesFor } from './variables.js';
import { resourcesOf, unwantResourcesOf } from '../../records/resources/resources.js';
import { branchHead } from '../../records/projects/sources.js';
import { type Context, type Db, repositoryOf } from '../context.js';

export async function stepEnvironments(context: Context): Promise<boolean> {
  const due = await takeDue(context.records, 'environments', context.timing.lease);
  if (!due) return false;
  const { id } = due;
  const environment = await environmentById(context.records, id);
  const project = await projectById(context.records, environment.project_id);
  if (environment.state === 'closing') await close(context, project, id);
  else await takeByItself(context, project, environment, due);
  return true;
}

async function takeByItself(context: Context, project: ProjectRow, seen: EnvironmentRow, due: Due): Promise<void> {
  const main = await mainDefinition(context.records, project.id);
  const candidates = await candidatesFor(context, project, seen, main);
  await context.records.transition('environment.taken', async (db) => {
    const environment = await lockEnvironment(db, seen.id);
    // What was committed since the candidates were read has woken it again.
    await settleDue(db, 'environments', due, null);
    if (environment.state === 'empty' || environment.state === 'live')
      await syncAddresses(db, project, environment, main?.model.environments[environment.plan_name]?.addresses ?? []);
    const past = await deploymentsOf(db, environment.id, 200);
    const live = past.find((one) => one.id === environment.live_id)?.release ?? null;
    const take = takes({
      held: environment.held_by !== null,
      open: environment.state === 'empty' || environment.state === 'live',
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
    if (!missing)
      await askDeployment(context, db, { project, environment, release, kind: 'automatic', actor: 'engine' });
  });
}

/** Releases that it may take by itself, the newest by commit order first. */
async function candidatesFor(
  context: Context,
  project: ProjectRow,
  environment: EnvironmentRow,
  main: Awaited<ReturnType<typeof mainDefinition>>,
): Promise<number[]> {
  const { records } = context;
  const source = releaseSource(main?.model.environments[environment.plan_name], environment.pull_request);
  if (!main || !source) return [];
  if (source.from === 'pull request') {
    const newest = await newestOfPullRequest(records, project.id, source.number);
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

/** Closing removes everything: deployments on their way, the address, then the instances. */
async function close(context: Context, project: ProjectRow, id: string): Promise<void> {
  await context.records.transition('environment.closing', async (db) => {
    const environment = await lockEnvironment(db, id);
    if (environment.state !== 'closing') return;
    const place = `${project.name}/${environment.name}`;
    await endDeployments(db, project, environment, place);
    const instances = await instancesOfEnvironment(db, id);
    const { effects, againMs } = closeEnvironment({
      routed: (await routeBody(db, environment.host)) !== null,
      acknowledged: (await listEdges(db)).every(
        (edge) => hasTable(edge, environment.host, environment.table_version).has,
      ),
      wanted: instances.filter((row) => row.wanted).length,
      running: instances.filter((row) => row.state === 'starting' || row.state === 'ready').length,
      working: await attemptsGoOn(db, id),
      resources: (await resourcesOf(db, id)).length,
    });
    if (effects.includes('unroute')) await removeAddressesOf(db, environment);
    if (effects.includes('unroute')) await setServing(db, id, null, await putRoute(db, environment.host, id, null));
    if (effects.includes('endInstances')) {
      await removeJobsOf(db, id);
      await stopJobsOf(db, id);
    }
    if (effects.includes('endInstances'))
      for (const deployment of new Set(instances.filter((row) => row.wanted).map((row) => row.deployment_id)))
        await unwant(db, deployment, null);
    if (effects.includes('removeResources')) await unwantResourcesOf(db, id);
    if (!effects.includes('closed')) return void (await setDue(db, 'environments', id, againMs));
    const again = await endClosing(db, id);
    await recordEvents(db, { type: 'environment.closed', project: project.id, subject: place, actor: 'engine' });
    if (!again) return;
    const { host } = environment;
    await recordEvents(db, {
      type: 'environment.made',
      project: project.id,
      subject: place,
      actor: 'engine',
      data: { host },
    });
    await notify(db, 'environments');
  });
}

async function endDeployments(db: Db, project: ProjectRow, environment: EnvironmentRow, place: string): Promise<void> {
  for (const moving of await movingDeployments(db, environment.id)) {
    const why = issue('environment_closed', { environment: place });
    await stopAttemptsOf(db, moving.id);
    await setDeploymentState(db, moving.id, 'failed', why);
    await setDue(db, 'deployments', moving.id, null);
    await recordEvents(db, {
      type: 'deployment.state',
      project: project.id,
      subject: `d${moving.number}`,
      actor: 'engine',
      data: { state: 'failed', environment: place, issue: why },
    });
  }
  if (environment.live_id) await endLive(db, environment.live_id);
}
