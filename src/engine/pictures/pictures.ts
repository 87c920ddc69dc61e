/** Pictures of what deployments show: taken under a fence; an agent's attempt does the work, and wakes this when it is over. */
import { CodedError, type Issue, issue, wording } from '../../core/errors/errors.js';
import { pagesOf, shareOf } from '../../core/pictures/pages.js';
import { type PictureFacts, type PictureStep, pictureAgain, pictureStep } from '../../core/pictures/steps.js';
import { takesPictures } from '../../records/callers/agents.js';
import type { Db } from '../../records/database.js';
import { deploymentById, type DeploymentRow } from '../../records/deployments/deployments.js';
import { environmentById, type EnvironmentRow } from '../../records/deployments/environments.js';
import {
  askForPicture,
  lookAtPictures,
  type PictureChange,
  type PictureRow,
  settlePicture,
  storePictures,
  takePicture,
} from '../../records/deployments/pictures.js';
import { releaseById } from '../../records/deployments/releases.js';
import { recordEvents } from '../../records/events.js';
import { letGo, putOff } from '../../records/held.js';
import { mainDefinition, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { addAttempts, attemptById, stopAttempt } from '../../records/runs/attempts.js';
import { holdBlobs } from '../../records/views/space.js';
import type { Context } from '../context.js';
import { placeOf } from '../deployments/acts.js';
import { baseOf, environmentOfBranch } from '../environments/leads.js';
import { whileHeld } from '../held.js';
import { type Lanes, openLanes } from '../lanes.js';
import { type Kept, keepPictures } from './keep.js';

/** Pictures that one service looks through at a time. */
const lanes = 2;
/** Sweeps after which one whose environment sleeps is looked at again: what wakes has other things to do. */
const laterSweeps = 3;
/** The tool of an agent that takes pictures. */
export const pictureTool = 'chromium';

export function pictureLanes(context: Context, free: () => void): Lanes {
  return openLanes({
    name: 'picture',
    count: lanes,
    take: () => takePicture(context.records, context.timing.lease),
    work: (row) => step(context, row),
    free,
    log: context.log,
  });
}

/** In the transaction in which a deployment becomes what is shown. */
export async function pictureShown(
  db: Db,
  environment: Pick<EnvironmentRow, 'id'>,
  deployment: Pick<DeploymentRow, 'id' | 'environment_plan'>,
  release: Parameters<typeof pagesOf>[1],
): Promise<void> {
  if (pagesOf(deployment.environment_plan, release).length) await askForPicture(db, environment.id, deployment.id);
}

/** Somebody wants it taken anew. Throws `pictures_none` where none is taken. */
export async function pictureAnew(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  actor: string,
): Promise<void> {
  const place = placeOf(project, environment);
  const deployment = environment.live_id === null ? null : await deploymentById(db, environment.live_id);
  const none = (why: string) => new CodedError('pictures_none', { environment: place, why });
  if (!deployment) throw none('nothing is live there');
  const release = await releaseById(db, deployment.release_id);
  if (pagesOf(deployment.environment_plan, release.plan).length === 0) throw none('it has no page, or asks for none');
  await askForPicture(db, environment.id, deployment.id);
  await recordEvents(db, { type: 'picture.asked', project: project.id, subject: place, actor });
}

interface Scene {
  deployment: DeploymentRow;
  environment: EnvironmentRow;
  project: ProjectRow;
}

async function enter({ records }: Context, row: PictureRow): Promise<Scene> {
  const deployment = (await deploymentById(records, row.deployment_id)) as DeploymentRow;
  const environment = await environmentById(records, row.environment_id);
  return { deployment, environment, project: await projectById(records, environment.project_id) };
}

async function factsOf({ records }: Context, row: PictureRow, { environment }: Scene): Promise<PictureFacts> {
  const attempt = row.attempt_id ? await attemptById(records, row.attempt_id) : null;
  const { state, live_id, serving_id } = environment;
  return {
    state: row.state,
    shown: live_id === row.deployment_id && state !== 'closing' && state !== 'closed',
    awake: state === 'live' && serving_id === row.deployment_id,
    able: row.state === 'asked' && (await takesPictures(records, pictureTool)),
    tries: row.tries,
    attempt: attempt && { state: attempt.state, why: attempt.issue ? wording(attempt.issue).says : '' },
  };
}

async function step(context: Context, row: PictureRow): Promise<void> {
  const { records } = context;
  const scene = await enter(context, row);
  const next = pictureStep(await factsOf(context, row, scene));
  switch (next.do) {
    case 'wait':
      return void (await (next.looks
        ? putOff(records, 'pictures', row, laterSweeps * context.timing.sweep)
        : letGo(records, 'pictures', row)));
    case 'take':
      return take(context, row, scene);
    case 'keep':
      return keep(context, row, scene);
    default:
      return settle(context, row, scene, next);
  }
}

const changes: Record<'again' | 'leave out' | 'stop', (row: PictureRow) => PictureChange> = {
  again: ({ tries }) => ({ state: 'asked', tries: tries + 1, attempt: null }),
  'leave out': () => ({ state: 'left out' }),
  stop: () => ({}),
};

async function settle(
  { records }: Context,
  row: PictureRow,
  scene: Scene,
  step: Exclude<PictureStep, { do: 'wait' | 'take' | 'keep' }>,
): Promise<void> {
  await records.transition(`picture.${step.do}`, async (db) => {
    const change: PictureChange = step.do === 'fail' ? { state: 'failed', issue: step.issue } : changes[step.do](row);
    if (!(await settlePicture(db, row, change))) return;
    if (step.do === 'stop' && row.attempt_id) await stopAttempt(db, row.attempt_id);
    // At once: what it waits for may be there.
    if (step.do === 'again') await lookAtPictures(db, row.environment_id);
    if (step.do === 'fail') await tell(db, scene, 'picture.failed', { why: wording(step.issue).says });
  });
}

async function take(context: Context, row: PictureRow, scene: Scene): Promise<void> {
  const { environment, project, deployment } = scene;
  await context.records.transition('picture.take', async (db) => {
    const beside = environment.kind === 'review' ? await besideOf(db, project, environment) : null;
    const [attempt = null] = await addAttempts(db, [
      {
        kind: 'picture',
        task: null,
        deployment: deployment.id,
        project: project.id,
        number: row.tries + 1,
        // What strangers have made is drawn there; so that nobody has to think of it, everything else is, too.
        needs: { takes: 'untrusted', base: null, tool: pictureTool },
        priority: 0,
      },
    ]);
    if (!(await settlePicture(db, row, { state: 'taking', attempt, beside }))) throw new CodedError('fence_old');
  });
}

/** The deployment that is shown where the change leads to. */
async function besideOf(db: Db, project: ProjectRow, environment: EnvironmentRow): Promise<string | null> {
  const branch = await baseOf(db, project, environment);
  const there = await environmentOfBranch(db, project, await mainDefinition(db, project.id), branch);
  return there && there.state === 'live' ? there.live_id : null;
}

/** Looks at what was handed over, and keeps it. */
async function keep(context: Context, row: PictureRow, scene: Scene): Promise<void> {
  const { records } = context;
  const release = await releaseById(records, scene.deployment.release_id);
  const pages = pagesOf(scene.deployment.environment_plan, release.plan);
  let kept: Kept | Issue;
  try {
    kept = await whileHeld(context, 'pictures', row, () => keepPictures(context, row.output ?? '', pages));
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    kept =
      error.issue.code === 'picture_wrong'
        ? error.issue
        : issue('picture_wrong', { detail: wording(error.issue).says });
  }
  if ('code' in kept) return settle(context, row, scene, { do: 'fail', issue: kept });
  const { pages: found, files } = kept;
  // It fell asleep while somebody looked: what was seen is the page that says so.
  if (found.some((page) => page.after.status === 503) && scene.environment.state !== 'live') {
    const shown = scene.environment.live_id === row.deployment_id;
    return settle(context, row, scene, pictureAgain({ shown, tries: row.tries }));
  }
  const [first] = found;
  if (first && found.every((page) => page.after.why !== null)) {
    const detail = `${first.path}: ${first.after.why}.`;
    return settle(context, row, scene, { do: 'fail', issue: issue('picture_failed', { detail }) });
  }
  const share = shareOf(found);
  await records.transition('picture.taken', async (db) => {
    // Bytes that are kept are named before anybody may remove them.
    await holdBlobs(db);
    if (!(await settlePicture(db, row, { state: 'taken', issue: null, pages: found, share }))) return;
    await storePictures(db, row.id, files);
    await tell(db, scene, 'picture.taken', { share, pages: found.length });
  });
}

async function tell(
  db: Db,
  { environment, project, deployment }: Scene,
  type: 'picture.taken' | 'picture.failed',
  data: Record<string, string | number | null>,
): Promise<void> {
  await recordEvents(db, {
    type,
    project: project.id,
    subject: placeOf(project, environment),
    actor: 'engine',
    data: { deployment: deployment.number, ...data },
  });
}
