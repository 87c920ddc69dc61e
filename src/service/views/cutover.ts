/** How the traffic of an environment moves, and how both releases do. */
import { forcedMs, forcedPath, forcedText } from '../../core/cutover/forced.js';
import { allTraffic } from '../../core/cutover/route.js';
import { type CutoverPlan, leftMs, shareIn, stepsOf } from '../../core/cutover/steps.js';
import { betterOf, enoughToJudge, testRows } from '../../core/cutover/verdict.js';
import type { Mirrored } from '../../core/cutover/mirrored.js';
import { quantile } from '../../core/figures/histogram.js';
import { CodedError } from '../../core/errors/errors.js';
import { chart, type Figure } from '../../core/figures/figures.js';
import { reachedAt } from '../../engine/context.js';
import { placeOf } from '../../engine/deployments/acts.js';
import { forcedKey } from '../../engine/deployments/shares.js';
import { mainAddresses } from '../../records/domains/addresses.js';
import { cutoverOf, type CutoverRow } from '../../records/deployments/cutovers.js';
import { type DeploymentRow, deploymentById, movingDeployments } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { readFigures } from '../../records/figures/figures.js';
import { releaseById } from '../../records/deployments/releases.js';
import type { Db } from '../../records/database.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Cutover, FirstLook } from '../../wire/environments/cutover.js';
import type { Service } from '../server.js';
import { iso, said } from './basics.js';
import { deploymentView } from './releases.js';

/** Seconds between two points, and points at most. */
const width = 10;
const mostPoints = 120;

/** The one whose traffic moves, or whose bounds are watched; refuses where there is none. */
async function current(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  now: number,
): Promise<{ deployment: DeploymentRow; row: CutoverRow }> {
  const moving = (await movingDeployments(db, environment.id)).find(({ state }) => state === 'cutover');
  const live = environment.live_id ? await deploymentById(db, environment.live_id) : null;
  for (const deployment of [moving, live]) {
    const row = deployment && (await cutoverOf(db, deployment.id));
    if (row && (deployment === moving || (row.watched_until?.getTime() ?? 0) > now)) return { deployment, row };
  }
  throw new CodedError('cutover_none', { environment: placeOf(project, environment) });
}

/** A header and a link to one side: the new one, where none is named. */
export async function firstLookView(
  { context }: Service,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  number: number | null,
): Promise<FirstLook> {
  const now = context.now();
  const { deployment, row } = await current(db, project, environment, now);
  if (row.step.at !== 'share' && row.step.at !== 'mirror')
    throw new CodedError('cutover_none', { environment: placeOf(project, environment) });
  const release = number ?? (await releaseById(db, deployment.release_id)).number;
  const until = Math.floor((now + forcedMs) / 1_000);
  const header = forcedText(forcedKey(context, environment), environment.host, `r${release}`, until);
  const main = (await mainAddresses(db, [environment.id])).get(environment.id) ?? null;
  const address = reachedAt(context.addresses, environment.host, main);
  return {
    release,
    header,
    link: `${address}${forcedPath}?${header}`,
    until: new Date(until * 1_000).toISOString(),
  };
}

export async function cutoverView(
  { context }: Service,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
): Promise<Cutover> {
  const now = context.now();
  const { deployment, row } = await current(db, project, environment, now);
  const { cutover: plan = none, guard = null } = deployment.environment_plan;
  const beside = row.before_id ? await deploymentById(db, row.before_id) : null;
  const release = await releaseById(db, deployment.release_id);
  const split = deployment.split !== null;
  const steps = stepsOf(plan).map((step) => (split ? { ...step, ms: null } : step));
  const index = indexOf(plan, row);
  const since = row.since.getTime();
  const own = index === null ? null : (steps[index]?.ms ?? null);
  const share = row.step.at === 'back' ? 0 : shareIn(plan, row.step) / allTraffic;
  const until = Math.floor(now / 1_000 / width) * width;
  const from = Math.max(
    until - mostPoints * width,
    Math.floor(deployment.created_at.getTime() / 1_000 / width) * width,
  );
  const points = Math.max(1, (until - from) / width);
  const figures = await readFigures(db, 10, environment.id, from, until);
  return {
    project: project.name,
    environment: environment.name,
    deployment: await deploymentView(db, project, deployment),
    beside: beside && { deployment: beside.number, release: (await releaseById(db, beside.release_id)).number },
    steps,
    step: index,
    stage: row.stage,
    since: row.since.toISOString(),
    share,
    stepLeftMs: own === null || row.ordered === 'stay' ? null : Math.max(0, since + own - now),
    leftMs: split || row.ordered === 'stay' ? null : leftMs({ now, plan, step: row.step, since }),
    ordered: row.ordered && { order: row.ordered, by: row.ordered_by ?? '' },
    waits: said(row.waits),
    worse: said(row.worse),
    split,
    better: betterOf(row.tests, { parts: Object.keys(release.plan.parts).length }),
    enough: enoughToJudge(row.tests),
    guard,
    watchedUntil: iso(row.watched_until),
    tests: testRows(row.tests, { parts: Object.keys(release.plan.parts).length, share }),
    mirrored: row.mirrored && mirroredView(row.mirrored),
    from: new Date(from * 1_000).toISOString(),
    widthMs: width * 1_000,
    lines: {
      now: linesOf(figures, deployment.number, from, points),
      old: beside && linesOf(figures, beside.number, from, points),
    },
  };
}

function mirroredView({ oldTimes, nowTimes, ...counts }: Mirrored): Cutover['mirrored'] {
  return { ...counts, oldP95: quantile(oldTimes, 0.95), nowP95: quantile(nowTimes, 0.95) };
}

/** Of an environment that moves all of it at once. */
const none: CutoverPlan = { mirrorMs: null, shares: [] };

function indexOf(plan: CutoverPlan, { step }: CutoverRow): number | null {
  const first = plan.mirrorMs === null ? 0 : 1;
  if (step.at === 'back') return null;
  return step.at === 'mirror' ? 0 : step.at === 'share' ? first + step.index : first + plan.shares.length;
}

/** All parts of a deployment together. */
function linesOf(
  figures: readonly Figure[],
  deployment: number,
  from: number,
  points: number,
): Cutover['lines']['now'] {
  const own = figures.filter((one) => one.deployment === deployment).map((one) => ({ ...one, part: '', instance: '' }));
  const empty = new Array<number | null>(points).fill(null);
  const [line] = chart(own, { from, width, points, by: 'part' });
  return { requests: line?.requests ?? empty, errors: line?.errors ?? empty, p95: line?.p95 ?? empty };
}
