/**
 * Several projects' deployments to one environment's name that go together or not at all: a promotion in two phases.
 *
 * | state     | in it                                                                 | left when                                  |
 * |-----------|-----------------------------------------------------------------------|--------------------------------------------|
 * | gathering | each comes up beside the old one by its own steps, tells every edge what comes next, and waits | all are ready and allowed → moved; one fails, is gone, or an hour has passed → ended |
 * | moved     | the traffic of all has moved, in one transaction; each is verified, and waits | all are verified → live; one fails or is gone → ended |
 * | live      | all are live; bounds of `guard` hold while what was there is warm     | one breaks a bound, or somebody says so → returned |
 * | ended     | none goes: what had moved goes back in one transaction                | never                                      |
 * | returned  | those that were still live went back to what was before, in one transaction | never                                |
 *
 * Its steps are transactions that lock all of its environments; the steps of one deployment never move its traffic by themselves.
 */
import { issue, type Issue, wording } from '../errors/errors.js';
import { deploymentMoving, type DeploymentState, type JointState } from '../states.js';

export interface JointMember {
  /** `sailings/production` */
  place: string;
  /** Null: its project, or it, is not there any more. */
  state: DeploymentState | null;
  failure: Issue | null;
  /** It would take the next step at once if it were let. */
  ready: boolean;
}

export interface JointFacts {
  /** Milliseconds since the epoch. */
  now: number;
  state: JointState;
  /** When it was asked for: milliseconds since the epoch. */
  since: number;
  members: readonly JointMember[];
  /** Why it is to go back, or null. */
  back: Issue | null;
  /** Milliseconds for which those that are ready wait for the others. */
  gatherMs: number;
}

export type JointEffect = 'move' | 'go live' | 'end' | 'return';

export interface JointStep {
  state: JointState;
  effect: JointEffect | null;
  /** Why none goes. */
  why: Issue | null;
  /** Milliseconds until it looks again though nobody has said anything; null: only when somebody does. */
  againMs: number | null;
}

/** A project may be removed, an edge may come back: nobody tells of that. */
const lookMs = 5_000;

export function advanceJoint({ now, state, since, members, back, gatherMs }: JointFacts): JointStep {
  const stay = (againMs: number | null): JointStep => ({ state, effect: null, why: null, againMs });
  const to = (next: JointState, effect: JointEffect, why: Issue | null = null): JointStep => ({
    state: next,
    effect,
    why,
    againMs: next === 'moved' ? lookMs : null,
  });
  switch (state) {
    case 'gathering':
    case 'moved': {
      const why = back ?? brokenBy(members);
      if (why) return to('ended', 'end', why);
      if (members.every(({ ready }) => ready))
        return state === 'gathering' ? to('moved', 'move') : to('live', 'go live');
      const late = members.filter(({ ready }) => !ready).map(({ place }) => place);
      if (state === 'gathering' && now - since >= gatherMs)
        return to('ended', 'end', issue('together_late', { environments: late.join(', ') }));
      return stay(lookMs);
    }
    case 'live':
      return back ? to('returned', 'return', back) : stay(null);
    case 'ended':
    case 'returned':
      return stay(null);
    default:
      return state satisfies never;
  }
}

/** The first one that can't go, in words; null: all may. */
function brokenBy(members: readonly JointMember[]): Issue | null {
  for (const { place, state, failure } of members) {
    if (state === null) return issue('together_gone', { environment: place });
    if (failure) return issue('together_failed', { environment: place, why: wording(failure).says });
    if (!deploymentMoving(state)) return issue('together_left', { environment: place, state });
  }
  return null;
}
