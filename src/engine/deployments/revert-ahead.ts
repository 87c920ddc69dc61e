/** What a revert would do, and what it can't undo. Nothing is done. */
import { decideRevert, type Lived, type Moving, type RevertDecision, wayBack } from '../../core/advance/back.js';
import { takesWarm } from '../../core/advance/enter.js';
import { canonical } from '../../core/canonical.js';
import { CodedError } from '../../core/errors/errors.js';
import { select } from '../../core/paths.js';
import type { Resolved } from '../../core/variables/resolve.js';
import {
  asLived,
  type DeploymentRow,
  deploymentsOf,
  findDeployment,
  movingDeployments,
  movingOf,
  type PastRow,
  revertsOf,
  warmDeployment,
  type WarmRow,
} from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { resourcesOf } from '../../records/resources/resources.js';
import type { Context, Db } from '../context.js';
import { variablesFor } from '../environments/variables.js';
import { needRelease, placeOf } from './acts.js';
import { migrationsOf } from './migrations.js';

/** What a person asks of a revert. */
export interface RevertWish {
  /** Number of the deployment that they want to leave; null: what there is to leave now. */
  leaves: number | null;
  /** Number of the release to go back to; null: what was live before. */
  release: number | null;
}

export interface RevertChoice {
  decision: RevertDecision;
  live: PastRow | null;
  moving: DeploymentRow[];
  past: PastRow[];
  /** What a revert from what is live can go back to, the nearest first. */
  way: PastRow[];
}

export interface RevertLook {
  release: ReleaseRow;
  /** The deployment that is brought back, with its plain variables. */
  then: PastRow;
  live: PastRow | null;
  /** What its programs would get of what is set now. */
  gets: Resolved;
  /** Deployments on their way, which it ends. */
  ends: readonly Moving[];
  /** What is live keeps the traffic: nothing is started. */
  keeps: boolean;
  /** Servers of then are warm, and take the traffic at once. */
  warm: boolean;
  /** The deployment that they are of; null: none is warm. */
  warmed: WarmRow | null;
  /** Releases that were read for this, by id. */
  releases: ReadonlyMap<string, ReleaseRow>;
  /** Plain variables with another value now; null: there was, or is, none. */
  variables: { name: string; then: string | null; now: string | null }[];
  /** Secrets with another value now: programs get the one of now. */
  secrets: string[];
  /** Migrations since, which stay done. */
  migrations: string[];
  /** Of them, what the old programs can't bear. */
  oneWay: string[];
  resources: {
    /** Made since: they stay, and nothing uses them. */
    unused: string[];
    /** Removed since: they are made from scratch, empty. */
    anew: string[];
  };
}

/** Deployments that a revert may go back to. */
const mostPast = 200;

/** Deployments whose migrations are looked at. */
const mostBetween = 20;

export async function chooseRevert(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  { leaves, release }: RevertWish,
): Promise<RevertChoice> {
  const past = await deploymentsOf(db, environment.id, mostPast);
  const live = past.find((one) => one.id === environment.live_id) ?? null;
  const moving = past.length < mostPast ? movingOf(past) : await movingDeployments(db, environment.id);
  const lived = past.filter((one) => one.live_at !== null);
  const named = leaves === null ? null : await findDeployment(db, project.id, leaves);
  const facts = {
    live: live && asLived(live),
    moving: moving.map((one) => ({
      id: one.id,
      number: one.number,
      kind: one.kind,
      leaves: one.leaves_id,
      restores: one.restores_id,
    })),
    past: lived.map(asLived),
    reverts: leaves === null ? [] : await revertsOf(db, environment.id),
    openedAt: environment.opened_at.getTime(),
    leaves,
    leavesId: named?.environment_id === environment.id ? named.id : null,
    release,
  };
  const way = wayBack(facts.live, facts.past, facts.openedAt);
  return { decision: decideRevert(facts), live, moving, past, way: rowsOf(way, past) };
}

const rowsOf = (way: readonly Lived[], past: readonly PastRow[]): PastRow[] =>
  way.flatMap(({ id }) => past.find((one) => one.id === id) ?? []);

/** Refuses where nothing would come of it. */
export function refuseRevert(
  { decision, live }: Pick<RevertChoice, 'decision' | 'live'>,
  { leaves, release }: RevertWish,
  place: string,
): void {
  if (decision.what === 'nothing')
    throw release === null
      ? new CodedError('nothing_to_revert', { environment: place })
      : new CodedError('never_live', { release: `r${release}`, environment: place });
  if (decision.what === 'moved')
    throw new CodedError('revert_moved', {
      deployment: `d${leaves}`,
      environment: place,
      live: live ? `d${live.number} with r${live.release}` : 'nothing',
    });
  if (decision.what === 'live') throw new CodedError('already_live', { release: `r${release}`, environment: place });
}

/** What a revert that goes somewhere does, or keeps. Of one that joins another it is that other one's. */
export async function lookAtRevert(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  { decision, live, moving, past }: RevertChoice,
): Promise<RevertLook> {
  const keeps = decision.what === 'keeps';
  const id = decision.what === 'goes' ? decision.to.id : decision.what === 'joins' ? decision.by.restores : null;
  const then = keeps ? live : past.find((one) => one.id === id);
  if (!then) throw new CodedError('nothing_to_revert', { environment: placeOf(project, environment) });
  const release = await needRelease(db, project, then.release);
  const now = await variablesFor(context, db, { project, environment, release });
  const names = [...new Set([...Object.keys(then.variables), ...Object.keys(now.values)])].sort();
  const warmed = keeps ? null : await warmDeployment(db, environment.id, release.id, null, then.id);
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
    ends: 'ends' in decision ? decision.ends : moving.map(asMoving),
    keeps,
    warmed,
    releases,
    warm:
      warmed !== null &&
      takesWarm({
        kind: 'revert',
        instances: 0,
        warm: true,
        sameSecrets: secrets.length === 0,
        sameVariables: canonical(warmed.variables) === canonical(then.variables),
      }),
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

const asMoving = (one: DeploymentRow): Moving => ({
  id: one.id,
  number: one.number,
  kind: one.kind,
  leaves: one.leaves_id,
  restores: one.restores_id,
});

/** Migrations of what was live here after then, that the release of then does not have. The records name them: no git is asked. */
async function sinceThen(
  context: Context,
  db: Db,
  project: ProjectRow,
  past: readonly PastRow[],
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
    const fresh = (await migrationsOf(context, project, one))
      .map(({ path }) => path)
      .filter((path) => !known.has(path));
    for (const path of fresh) migrations.add(path);
    for (const path of one.plan.oneWay?.length ? select(fresh, one.plan.oneWay).paths : []) oneWay.add(path);
  }
  return { migrations: [...migrations].sort(), oneWay: [...oneWay].sort() };
}
