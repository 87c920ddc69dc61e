/** The traffic moves in steps: what edges are told, what they count of it, and what that comes to. */
import { canonical } from '../../core/canonical.js';
import { allTraffic, type Judged, type Route, routeMirrored, routeShared } from '../../core/cutover/route.js';
import { addMirrored, type Mirrored, mirroredCounts } from '../../core/cutover/mirrored.js';
import { type CutoverStep, shareIn } from '../../core/cutover/steps.js';
import {
  addSlices,
  enoughToJudge,
  type GuardPlan,
  type SliceCount,
  type Worse,
  worst,
} from '../../core/cutover/verdict.js';
import type { CutoverWay } from '../../core/advance/deployments.js';
import type { Side } from '../../core/cutover/judge.js';
import { durationText } from '../../core/durations.js';
import { type Issue, issue } from '../../core/errors/errors.js';
import { leadTo, routeBody } from '../../records/callers/edges.js';
import {
  cutoverOf,
  type CutoverRow,
  enterStep,
  judgedAt,
  lockCutover,
  setTests,
} from '../../records/deployments/cutovers.js';
import { type DeploymentRow, lockDeployment, markSeen } from '../../records/deployments/deployments.js';
import { environmentById, type EnvironmentRow } from '../../records/deployments/environments.js';
import { projectById } from '../../records/projects/projects.js';
import { recordEvents } from '../../records/events.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Context, Db } from '../context.js';
import { placeOf } from './acts.js';
import { targetFor } from './routes.js';
import type { Scene } from './scene.js';

/** What the route says of it while its traffic moves, and while it may still go back. */
const judgedOf = ({ deployment, before }: Pick<Scene, 'deployment' | 'before'>, row: CutoverRow): Judged => ({
  stage: `d${deployment.number} ${row.stage}`,
  now: `d${deployment.number}`,
  old: row.step.at === 'share' && before ? `d${before.deployment.number}` : null,
  boundMs: deployment.environment_plan.guard?.p95Ms ?? null,
  until: row.watched_until?.getTime() ?? null,
});

function sharedRoute(scene: Scene, row: CutoverRow, current: Route | null): Route | null {
  const { environment, deployment, release, instances, before, context, place } = scene;
  const { cutover: plan, mirror } = deployment.environment_plan;
  if (!before || !plan) return null;
  if (row.step.at === 'mirror')
    return routeMirrored(current, {
      environment: place,
      old: targetFor({ ...before, environment }, context.keys),
      mirror: {
        stage: `d${deployment.number} ${row.stage}`,
        target: targetFor({ deployment, release, environment, instances }, context.keys),
        paths: mirror?.paths ?? [],
        same: mirror?.same ?? [],
      },
      forced: forcedKey(context, environment),
    });
  return routeShared(current, {
    environment: place,
    now: targetFor({ deployment, release, environment, instances }, context.keys),
    old: targetFor({ ...before, environment }, context.keys),
    share: shareIn(plan, row.step),
    visitors: context.keys.hash(`visitors ${environment.id}`),
    judged: judgedOf(scene, row),
    forced: forcedKey(context, environment),
  });
}

/** Under which it is signed who sees one side first. */
export const forcedKey = ({ keys }: Pick<Context, 'keys'>, { id }: Pick<EnvironmentRow, 'id'>): string =>
  keys.hash(`forced ${id}`);

/** The next step: the table leads so much of the traffic to the new release. */
export async function enterShare(scene: Scene, step: CutoverStep): Promise<void> {
  const { db, deployment, before, environment, release } = scene;
  const row = await enterStep(db, {
    deployment: deployment.id,
    before: before?.deployment.id ?? null,
    step,
  });
  const current = (await routeBody(db, environment.host)) as Route | null;
  const route = sharedRoute(scene, row, current);
  if (!route || !before) return;
  const version = await leadTo(db, environment, before.deployment.id, route);
  if (step.at === 'share') await markSeen(db, deployment.id);
  const plan = deployment.environment_plan.cutover;
  await recordEvents(db, {
    type: 'traffic.shared',
    project: deployment.project_id,
    subject: scene.place,
    actor: 'engine',
    data: {
      deployment: `d${deployment.number}`,
      release: `r${release.number}`,
      share: plan ? shareIn(plan, step) / allTraffic : 1,
      version,
    },
  });
}

/** The table leads to what runs now, on both sides, where it differs. */
export async function followShares(scene: Scene): Promise<void> {
  const { db, environment, deployment, before } = scene;
  const row = await cutoverOf(db, deployment.id);
  const current = (await routeBody(db, environment.host)) as Route | null;
  const route = row && sharedRoute(scene, row, current);
  if (!route || !before) return;
  await leadTo(db, environment, before.deployment.id, route);
}

/** Whether the table leads some of the traffic to this deployment beside another. */
export const isShared = (route: Route | null, { number }: Pick<DeploymentRow, 'number'>): boolean =>
  route?.mirror?.target.deployment === `d${number}` ||
  route?.targets.some((one) => one.deployment === `d${number}` && one.share > 0 && one.share < allTraffic) === true;

/** Where it is on its way; null: all of the traffic moves at once. */
export async function wayOf(scene: Scene, route: Route | null): Promise<CutoverWay | null> {
  const { db, context, deployment, environment } = scene;
  const plan = deployment.environment_plan.cutover;
  // What goes with others goes at their moment, all at once.
  if (!plan || environment.kind === 'review' || deployment.kind === 'revert' || deployment.joint_id !== null)
    return null;
  const row = await lockCutover(db, deployment.id);
  const guard = deployment.environment_plan.guard ?? null;
  const wanted = row?.step.at === 'share' || row?.step.at === 'mirror' ? sharedRoute(scene, row, route) : null;
  return {
    plan,
    step: row?.step ?? null,
    since: row?.since.getTime() ?? 0,
    // A split stays until somebody ends it.
    order: row?.ordered ?? (deployment.split === null ? null : 'stay'),
    orderedBy: row?.ordered_by ?? '',
    worse: row?.worse ?? null,
    enough: row ? enoughToJudge(row.tests) : false,
    few: guard?.few ?? 'continue',
    fewMs: context.timing.few,
    tooFew: issue('cutover_few', {
      release: `r${scene.release.number}`,
      environment: scene.place,
      time: durationText(context.timing.few),
    }),
    stale: wanted !== null && leadsElsewhere(wanted, route),
    waits: row?.waits ?? null,
  };
}

/** A side without any server is left as it is: its last ones may come back. */
function leadsElsewhere(wanted: Route, current: Route | null): boolean {
  const shown = ({ targets, mirror }: Route) => canonical([targets.filter(({ share }) => share > 0), mirror ?? null]);
  const empty = wanted.targets.some(
    (target) => target.share > 0 && target.paths.some((path) => path.kind === 'server' && path.instances.length === 0),
  );
  return !empty && (current === null || shown(wanted) !== shown(current));
}

/** Bounds go on to hold while the old release is warm. Gives what the route says of it; null: nothing is watched. */
export async function watchAll(scene: Scene, warmMs: number): Promise<Judged | null> {
  const { db, deployment, before } = scene;
  const { guard, cutover } = deployment.environment_plan;
  if (!before || deployment.kind === 'revert' || (!guard && !cutover)) return null;
  const row = await enterStep(db, {
    deployment: deployment.id,
    before: before.deployment.id,
    step: { at: 'all' },
    watchedMs: warmMs,
  });
  return guard ? judgedOf(scene, row) : null;
}

/** What an edge has counted of a host in a slice. */
export interface HostSlices {
  host: string;
  /** `d17 2` */
  stage: string;
  counts: SliceCount[];
  /** What came of copies of requests. */
  mirrored?: Mirrored;
}

/**
 * Takes slices in, in the transaction that knows that they are new. What was counted in a step that is over says nothing: its shares
 * were others. At the first sign that it is worse its deployment is looked at.
 */
export async function takeSlices(db: Db, { host, stage, counts, mirrored }: HostSlices): Promise<void> {
  const [name = '', turn = ''] = stage.split(' ');
  const found = await judgedAt(db, host, Number(name.slice(1)));
  if (!found) return;
  const deployment = await lockDeployment(db, found.id);
  const row = await lockCutover(db, found.id);
  if (!deployment || !row || row.stage !== Number(turn) || row.step.at === 'back') return;
  const guard = deployment.environment_plan.guard ?? null;
  const tests = addSlices(row.tests, mirrored ? [...counts, ...mirroredCounts(mirrored)] : counts, guard);
  const sign = row.worse ? null : worst(tests, { parts: found.parts, guard });
  const worse = sign && (await inWords(db, found, sign, guard));
  await setTests(db, found.id, {
    tests,
    worse,
    mirrored: mirrored ? addMirrored(row.mirrored, mirrored) : row.mirrored,
  });
  if (worse || (!enoughToJudge(row.tests) && enoughToJudge(tests))) await makeDue(db, 'deployments', found.id);
}

const rateText = ({ units, bad }: Side): string => {
  const percent = units === 0 ? 0 : (bad / units) * 100;
  return `${bad} of ${units} (${percent >= 10 ? Math.round(percent) : Number(percent.toPrecision(2))} %)`;
};

async function inWords(
  db: Db,
  { environment_id, release, beside }: { environment_id: string; release: number; beside: number | null },
  { figure, part, path, than, now, old }: Worse,
  guard: GuardPlan | null,
): Promise<Issue> {
  const environment = await environmentById(db, environment_id);
  const bound =
    figure === 'rate'
      ? `the bound of ${(guard?.errors ?? 0) * 100} %`
      : figure === 'same'
        ? 'the one of a hundred that may'
        : `the bound of 5 % above ${guard?.p95Ms} ms`;
  const what = {
    errors: 'errors',
    slow: 'slow answers',
    rate: 'errors',
    p95: `answers after more than ${guard?.p95Ms} ms`,
    same: 'answers that must be equal and differ',
  }[figure];
  return issue('cutover_worse', {
    environment: placeOf(await projectById(db, environment.project_id), environment),
    release: `r${release}`,
    what,
    where: part === 'mirror' ? 'copied requests' : path ? `${part} at ${path}` : part,
    now: `${figure === 'errors' || figure === 'slow' ? 'met by' : 'in'} ${rateText(now)}`,
    than: than === 'old' ? `${rateText(old)} of r${beside ?? 0} in the same minutes` : bound,
  });
}
