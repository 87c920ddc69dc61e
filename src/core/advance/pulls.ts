/**
 * A pull request as events of its code host tell of it: late, twice, in any order, and with some of them lost. Of each thing that is told
 * the newest telling counts, by the time at which it happened there; so whatever order they come in, they end in the same.
 *
 * | from          | told                    | becomes | what follows                                              |
 * |---------------|-------------------------|---------|-----------------------------------------------------------|
 * | not known     | opened, updated         | open    | a run, and a review of its own                            |
 * | not known     | updated, without a head | open    | nothing, until somebody tells that                        |
 * | not known     | merged, abandoned       | closed  | nothing: an opening that comes later is older             |
 * | open          | updated, another head   | open    | a run                                                     |
 * | open          | its author may write now | open   | a run                                                     |
 * | open          | updated, nothing of it  | open    | nothing                                                   |
 * | open          | merged, abandoned       | closed  | its runs stop, its review closes                          |
 * | closed        | opened, updated, later  | open    | a run, and its review again                               |
 * | any           | what happened before    | as it was | nothing, but for what nobody had told yet               |
 */
import type { EnvironmentPlan } from '../definition/model.js';

export interface Pull {
  number: number;
  title: string;
  /** Commit id; empty where nobody has told it. */
  head: string;
  base: string;
  /** By somebody who may write there. */
  trusted: boolean;
  draft: boolean;
  state: 'open' | 'closed';
  merged: boolean;
  /** When each of them was told to be so: milliseconds since the epoch. */
  times: Partial<Record<PullField, number>>;
}

export type PullField = 'title' | 'head' | 'base' | 'trusted' | 'draft' | 'state' | 'merged';

export interface PullEvent {
  what: 'opened' | 'updated' | 'merged' | 'abandoned';
  /** When it happened at the code host. */
  at: number;
  title?: string | undefined;
  head?: string | undefined;
  base?: string | undefined;
  trusted?: boolean | undefined;
  draft?: boolean | undefined;
}

export type PullChange = 'opened' | 'pushed' | 'told' | 'closed' | null;

/** What is known after an event, and what that is to whoever works on it. `base` is where it leads to where nobody says so. */
export function pullAfter(
  known: Pull | null,
  number: number,
  event: PullEvent,
  base: string,
): { pull: Pull; change: PullChange } {
  const before: Pull = known ?? {
    number,
    title: '',
    head: '',
    base,
    trusted: false,
    draft: false,
    state: 'closed',
    merged: false,
    times: {},
  };
  const open = event.what === 'opened' || event.what === 'updated';
  const { title, head, trusted, draft } = event;
  const said: Partial<Pick<Pull, PullField>> = {
    ...Object.fromEntries(
      Object.entries({ title, head, base: event.base, trusted, draft }).filter(([, value]) => value !== undefined),
    ),
    state: open ? 'open' : 'closed',
    merged: event.what === 'merged',
  };
  const pull: Pull = { ...before, times: { ...before.times } };
  for (const [name, value] of Object.entries(said) as [PullField, never][]) {
    const since = before.times[name];
    if (since !== undefined && (event.at < since || (event.at === since && !wins(name, value, before[name])))) continue;
    pull[name] = value;
    pull.times[name] = event.at;
  }
  return { pull, change: changeOf(known, pull) };
}

/** Of two that happened in the same moment the same one counts, whichever came first: an end before a beginning. */
function wins(name: PullField, value: string | boolean, before: string | boolean): boolean {
  if (name === 'state') return value === 'closed';
  return JSON.stringify(value) > JSON.stringify(before);
}

const isOpen = ({ state, head }: Pull): boolean => state === 'open' && head !== '';

function changeOf(known: Pull | null, pull: Pull): PullChange {
  // Without a commit there is nothing to work on yet.
  const wasOpen = known !== null && isOpen(known);
  if (!isOpen(pull)) return wasOpen ? 'closed' : null;
  if (!wasOpen) return 'opened';
  // Whose author may write by now is worked on as theirs: what waited to be allowed needs that no more.
  if (known.head !== pull.head || (pull.trusted && !known.trusted)) return 'pushed';
  const fields = ['title', 'base', 'trusted', 'draft'] as const;
  return fields.some((name) => known[name] !== pull[name]) ? 'told' : null;
}

/** Milliseconds by which the clock of a code host may be ahead: what is told of a later time happened when it came. */
const aheadMs = 5 * 60_000;

/** When an event happened: as it says itself (RFC 3339), else when it came. */
export function happenedAt(time: unknown, cameAt: number): number {
  const told = typeof time === 'string' && /^\d{4}-\d\d-\d\dT/.test(time) ? Date.parse(time) : Number.NaN;
  return Number.isNaN(told) || told > cameAt + aheadMs ? cameAt : told;
}

/**
 * Whether a pull request has a review, by the environment of the definition that is for them. A stranger's has none before somebody has
 * `allowed` a commit of it.
 */
export const hasReview = (
  plan: Pick<EnvironmentPlan, 'for' | 'drafts'>,
  pull: Pick<Pull, 'trusted' | 'draft'>,
  allowed = false,
): boolean => plan.for !== null && (pull.trusted || allowed) && !(pull.draft && plan.drafts === false);
