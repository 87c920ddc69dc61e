/**
 * What becomes live, and from where: which instances are still missing, whether a revert takes warm ones over, whether the table of the
 * traffic follows, what becomes of the deployment before, and which releases an environment may take by itself.
 */
import type { EnvironmentPlan } from '../definition/model.js';
import type { DeploymentKind, DeploymentState } from '../states.js';
import { instanceOver, type KeptInstance } from './keep.js';

export interface AskedPart {
  name: string;
  instances: number;
}

/** Places of these parts in which nothing wanted runs or starts, in the order of the parts; positions count from 1. */
export function missingInstances(
  parts: readonly AskedPart[],
  instances: readonly Pick<KeptInstance, 'part' | 'position' | 'state' | 'wanted'>[],
): { part: string; position: number }[] {
  const taken = new Set(
    instances.filter((one) => one.wanted && !instanceOver(one)).map((one) => `${one.part} ${one.position}`),
  );
  return parts.flatMap(({ name, instances: count }) =>
    Array.from({ length: count }, (_, at) => ({ part: name, position: at + 1 })).filter(
      ({ part, position }) => !taken.has(`${part} ${position}`),
    ),
  );
}

export interface WarmFacts {
  kind: DeploymentKind;
  /** Instances that it has already. */
  instances: number;
  /** There is an earlier deployment of its release here whose servers are warm. */
  warm: boolean;
  /** They were started with the secrets of now. */
  sameSecrets: boolean;
  /** They were started with the plain variables that are wanted; left out: they were. */
  sameVariables?: boolean;
}

/** A revert that has nothing yet takes the servers of the release's last deployment here over, unless their secrets are others by now. */
export const takesWarm = ({ kind, instances, warm, sameSecrets, sameVariables = true }: WarmFacts): boolean =>
  kind === 'revert' && instances === 0 && warm && sameSecrets && sameVariables;

export interface TableFacts {
  serving: boolean;
  /** Another deployment moves the traffic just now. */
  moving: boolean;
  /** What the table leads to now differs from what it says. */
  changed: boolean;
  /** Some path of it would lead to no server. */
  empty: boolean;
}

/** Whether the table of the traffic follows what runs. One without any server helps nobody: the last stays until there is another. */
export const tableFollows = ({ serving, moving, changed, empty }: TableFacts): boolean =>
  serving && !moving && changed && !empty;

/**
 * What becomes of the deployment before one that goes live; null where it was not live: it has failed, and cools down as it is. Warm is
 * what the next revert would choose: never what was reverted, and nothing where nobody reverts.
 */
export function retires(
  before: DeploymentState,
  by: { kind: DeploymentKind; undoes: boolean; standing: boolean; warmMs: number },
): { state: 'replaced' | 'reverted'; warmMs: number } | null {
  if (before !== 'live') return null;
  const state = by.kind === 'revert' && !by.undoes ? 'reverted' : 'replaced';
  return { state, warmMs: state === 'replaced' && by.standing ? by.warmMs : 0 };
}

export type ReleaseSource =
  | { from: 'pull request'; number: number }
  /** The newest that another environment has verified. */
  | { from: 'environment'; name: string }
  | { from: 'branch'; name: string };

/** From where an environment takes releases by itself; null: from nowhere. */
export function releaseSource(
  plan: Pick<EnvironmentPlan, 'after' | 'promotion' | 'branch'> | undefined,
  { pull_request, branch }: { pull_request: number | null; branch: string | null },
): ReleaseSource | null {
  if (!plan) return null;
  if (pull_request !== null) return { from: 'pull request', number: pull_request };
  // Of a review that somebody has opened for it.
  if (branch !== null) return { from: 'branch', name: branch };
  if (plan.after !== null) return plan.promotion === 'automatic' ? { from: 'environment', name: plan.after } : null;
  return plan.branch === null ? null : { from: 'branch', name: plan.branch };
}

/** The commits that are not older than the live one; all of them where that is not among them. `commits` come with the newest first. */
export function newerThan(commits: readonly string[], live: string | null): string[] {
  const place = live === null ? -1 : commits.indexOf(live);
  return place < 0 ? [...commits] : commits.slice(0, place + 1);
}
