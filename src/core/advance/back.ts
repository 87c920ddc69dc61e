/**
 * What a revert goes back to. Every deployment that becomes live names the one that a revert from it goes back to (`back`), so the way
 * back is a list that never changes:
 *
 * | it became live as    | its `back`                                                                      |
 * |----------------------|---------------------------------------------------------------------------------|
 * | a new deployment     | the deployment that was live; of the same unit: the `back` of that one           |
 * | a revert to Y        | the `back` of Y                                                                 |
 * | an undo, restoring X | the `back` of X                                                                 |
 *
 * A unit is a release with its plain variables. So a bad change of a variable is reverted like a bad release, and a release that was
 * brought back deliberately is one to go back to like any other.
 */
import { canonical } from '../canonical.js';
import type { DeploymentKind } from '../states.js';

/** A deployment that is, or was, live here. */
export interface Lived {
  id: string;
  number: number;
  /** Number of its release. */
  release: number;
  variables: Readonly<Record<string, string>>;
  /** Id of the deployment that a revert from it goes back to; null: there is none. */
  back: string | null;
  /** When it became live: milliseconds since the epoch. */
  liveAt: number;
  /** Its bytes are removed. */
  gone: boolean;
}

/** A deployment on its way here. */
export interface Moving {
  id: string;
  number: number;
  kind: DeploymentKind;
  /** Of a revert: the deployments that it leaves and goes back to. */
  leaves: string | null;
  restores: string | null;
}

const sameUnit = (a: Pick<Lived, 'release' | 'variables'>, b: Pick<Lived, 'release' | 'variables'>): boolean =>
  a.release === b.release && canonical(a.variables) === canonical(b.variables);

/** The `back` of a new deployment that becomes live while `before` is. */
export const backOf = (
  becoming: Pick<Lived, 'release' | 'variables'>,
  before: Pick<Lived, 'id' | 'release' | 'variables' | 'back'> | null,
): string | null => (before === null ? null : sameUnit(becoming, before) ? before.back : before.id);

/** Steps back that are shown. */
export const candidatesAtMost = 20;

/**
 * The deployments that a revert from `live` can go back to, the nearest first. `past` holds those that were live here. What was live before
 * the environment was opened, and what has no bytes any more, is passed over.
 */
export function wayBack(
  live: Lived | null,
  past: readonly Lived[],
  openedAt: number,
  most = candidatesAtMost,
): Lived[] {
  const byId = new Map(past.map((one) => [one.id, one]));
  const way: Lived[] = [];
  const seen = new Set<string>();
  for (let id = live?.back ?? null; id !== null && !seen.has(id) && way.length < most; ) {
    seen.add(id);
    const one = byId.get(id);
    if (!one || one.liveAt < openedAt) break;
    if (!one.gone) way.push(one);
    id = one.back;
  }
  return way;
}

export interface RevertFacts {
  live: Lived | null;
  /** Deployments on their way, the oldest first. */
  moving: readonly Moving[];
  /** All that were live here, the newest first. */
  past: readonly Lived[];
  /** Reverts that were asked for here, the newest first. */
  reverts: readonly { number: number; leaves: string | null }[];
  openedAt: number;
  /** Number of the deployment that the person wants to leave; null: what there is to leave now. */
  leaves: number | null;
  /** Id of the deployment of that number, where it is one of this environment. */
  leavesId: string | null;
  /** Number of the release that it shall go back to; null: what the way back says. */
  release: number | null;
}

export type RevertDecision =
  /** There is nothing to go back to. */
  | { what: 'nothing' }
  /** What was to be left has been left, by this revert. Nothing is to be done. */
  | { what: 'already'; by: number }
  /** What was to be left is not live, and no revert has left it. */
  | { what: 'moved' }
  /** The release that was named is live, and nothing moves. */
  | { what: 'live' }
  /** This revert, on its way, does what is asked for. Others that move are ended. */
  | { what: 'joins'; by: Moving; ends: Moving[] }
  /** What moves is ended, and what is live keeps the traffic. */
  | { what: 'keeps'; ends: Moving[] }
  | { what: 'goes'; to: Lived; ends: Moving[] };

/** What comes of a revert. A revert that is on its way to the same target is the answer; one to another target is replaced. */
export function decideRevert(facts: RevertFacts): RevertDecision {
  const { live, moving, past, reverts, openedAt, leaves, leavesId, release } = facts;
  const forward = moving.filter(({ kind }) => kind !== 'revert');
  const named = leaves === null ? null : (moving.find(({ number }) => number === leaves) ?? null);
  if (leaves !== null && !named && live?.number !== leaves) {
    const by = leavesId === null ? undefined : reverts.find((one) => one.leaves === leavesId);
    return by ? { what: 'already', by: by.number } : { what: 'moved' };
  }
  const keeps = (): RevertDecision => (live ? { what: 'keeps', ends: [...moving] } : { what: 'nothing' });
  if (release === null && (named || (leaves === null && forward.length > 0))) return keeps();
  if (release !== null && release === live?.release) return moving.length ? keeps() : { what: 'live' };
  const to =
    release === null
      ? (wayBack(live, past, openedAt, 1)[0] ?? null)
      : (past.find((one) => one.release === release) ?? null);
  if (!to) return { what: 'nothing' };
  const same = moving.find(
    (one) => one.kind === 'revert' && one.leaves === (live?.id ?? null) && one.restores === to.id,
  );
  if (same) return { what: 'joins', by: same, ends: moving.filter((one) => one !== same) };
  return { what: 'goes', to, ends: [...moving] };
}

export interface UndoFacts {
  /** `undoes`: it undoes a revert itself. */
  live: { number: number; kind: DeploymentKind; undoes: boolean; actor: string } | null;
  /** Number of the newest deployment here. */
  newest: number | null;
  reason: string | null;
}

/** Why a revert cannot be undone: `none`, it is not what happened last here; `reason`, the service itself went back, so it wants a reason. */
export function refusesUndo({ live, newest, reason }: UndoFacts): 'none' | 'reason' | null {
  if (!live || live.kind !== 'revert' || live.undoes || live.number !== newest) return 'none';
  return live.actor === 'engine' && !reason?.trim() ? 'reason' : null;
}
