/** What a revert would do, and what it can't undo; nothing is done. */
import { revertTarget } from '../../core/advance/environments.js';
import { takesWarm } from '../../core/advance/enter.js';
import { canonical } from '../../core/canonical.js';
import { CodedError } from '../../core/errors/errors.js';
import { filesOf } from '../../core/plan/plan.js';
import type { Resolved } from '../../core/variables/resolve.js';
import {
  asPast,
  type DeploymentRow,
  deploymentsOf,
  movingDeployments,
  movingOf,
  warmDeployment,
  type WarmRow,
} from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { resourcesOf } from '../../records/resources/resources.js';
import { type Context, type Db, treeOf } from '../context.js';
import { variablesFor } from '../environments/variables.js';
import { needRelease, placeOf } from './acts.js';
import { migrationsOf } from './migrations.js';

export interface RevertLook {
  release: ReleaseRow;
  /** The deployment whose plain variables come back. */
  then: DeploymentRow & { release: number };
  live: (DeploymentRow & { release: number }) | null;
  /** What its programs would get of what is set now. */
  gets: Resolved;
  /** Deployments on their way, which it ends. */
  moving: DeploymentRow[];
  /** What served goes on: nothing is started. */
  keeps: boolean;
  /** Servers of then are warm, and take the traffic at once. */
  warm: boolean;
  /** The deployment that they are of; null: none is warm. */
  warmed: WarmRow | null;
  /** Releases that were read for this, by id. */
  releases: ReadonlyMap<string, ReleaseRow>;
  /** Plain ones that are others by now; null: there was, or is, none. */
  variables: { name: string; then: string | null; now: string | null }[];
  /** Secrets that are others by now: those of now are given. */
  secrets: string[];
  /** Migrations since, which stay done. */
  migrations: string[];
  /** Of them, what the old programs can't bear. */
  oneWay: string[];
  resources: {
    /** Made since: they stay, and nothing uses them. */
    unused: string[];
    /** Removed since: they are made anew, empty. */
    anew: string[];
  };
}

/** Deployments that a revert may go back to. */
const mostPast = 200;

/** Deployments whose migrations are looked at. */
const mostBetween = 20;

/** Refuses where there is nothing to go back to. */
export async function lookAtRevert(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  number: number | null,
): Promise<RevertLook> {
  const past = await deploymentsOf(db, environment.id, mostPast);
  const live = past.find((one) => one.id === environment.live_id) ?? null;
  const moving = past.length < mostPast ? movingOf(past) : await movingDeployments(db, environment.id);
  const keeps = moving.length > 0 && live !== null && (number === null || number === live.release);
  const target = keeps ? live.release : (number ?? revertTarget(past.map(asPast), live?.release ?? null));
  const then = keeps ? live : past.find((one) => one.release === target && one.live_at !== null);
  if (target === null || !then)
    throw new CodedError('nothing_to_revert', { environment: placeOf(project, environment) });
  const release = await needRelease(db, project, target);
  const now = await variablesFor(context, db, { project, environment, release });
  const names = [...new Set([...Object.keys(then.variables), ...Object.keys(now.values)])].sort();
  const warmed = keeps ? null : await warmDeployment(db, environment.id, release.id, null);
  const secrets = Object.keys(then.secrets).filter(
    (name) => now.secrets[name] !== undefined && canonical(now.secrets[name]) !== canonical(then.secrets[name]),
  );
  const releases = new Map([[release.id, release]]);
  const undone = keeps
    ? { migrations: [], oneWay: [] }
    : await sinceThen(context, db, project, past, { then, release, releases });
  const there = await resourcesOf(db, environment.id);
  const wanted = Object.keys(release.plan.resources);
  return {
    release,
    then,
    live,
    gets: now,
    moving,
    keeps,
    warmed,
    releases,
    warm: warmed !== null && takesWarm({ kind: 'revert', instances: 0, warm: true, sameSecrets: secrets.length === 0 }),
    variables: keeps
      ? []
      : names
          .filter((name) => then.variables[name] !== now.values[name])
          .map((name) => ({ name, then: then.variables[name] ?? null, now: now.values[name] ?? null })),
    secrets: keeps ? [] : secrets,
    ...undone,
    resources: {
      unused: keeps ? [] : there.map(({ name }) => name).filter((name) => !wanted.includes(name)),
      anew: keeps ? [] : wanted.filter((name) => !there.some((one) => one.name === name)),
    },
  };
}

/** Migrations of what was live here after then, that the release of then does not have. */
async function sinceThen(
  context: Context,
  db: Db,
  project: ProjectRow,
  past: readonly (DeploymentRow & { release: number })[],
  { then, release, releases }: { then: DeploymentRow; release: ReleaseRow; releases: Map<string, ReleaseRow> },
): Promise<{ migrations: string[]; oneWay: string[] }> {
  const known = new Set((await migrationsOf(context, project, release)).map(({ path }) => path));
  const later = past
    .filter((one) => one.number > then.number && one.release_id !== then.release_id)
    .slice(0, mostBetween);
  const [migrations, oneWay] = [new Set<string>(), new Set<string>()];
  for (const id of new Set(later.map((one) => one.release_id))) {
    const one = await releaseById(db, id);
    releases.set(id, one);
    for (const { path } of await migrationsOf(context, project, one)) if (!known.has(path)) migrations.add(path);
    const patterns = one.plan.oneWay ?? [];
    if (patterns.length === 0) continue;
    const tree = await treeOf(context, project, one.commit).catch(() => []);
    for (const { path } of filesOf(tree, patterns)) if (!known.has(path)) oneWay.add(path);
  }
  return { migrations: [...migrations].sort(), oneWay: [...oneWay].sort() };
}
