/** What is counted of runs and deployments, a row a day: each run and each deployment is counted once. */
import type { TaskState } from '../states.js';
import { addSpreads, type Spread, spreadOf } from './spread.js';

/** `2026-11-28`, of UTC. */
export const dayOf = (ms: number): string => new Date(ms).toISOString().slice(0, 10);

/** A task as the run that it belongs to left it. All times: milliseconds since the epoch. */
export interface EndedTask {
  task: string;
  state: TaskState;
  flaky: boolean;
  /** Its own, one after another. */
  attempts: { asked: number; began: number | null; ended: number | null }[];
  /** Milliseconds for which the attempt had run whose result it has from another run; null: it has none. */
  saved: number | null;
}

export interface TaskDay {
  task: string;
  day: string;
  ran: number;
  reused: number;
  failed: number;
  flaky: number;
  /** Milliseconds of all attempts, and what reuse has saved. */
  tookMs: number;
  savedMs: number;
  took: Spread;
  /** For an agent, each attempt. */
  waited: Spread;
}

export function taskDays(ended: number, tasks: readonly EndedTask[]): TaskDay[] {
  const day = dayOf(ended);
  return tasks.flatMap(({ task, state, flaky, attempts, saved }) => {
    const took = attempts.flatMap(({ began, ended: end }) => (began === null || end === null ? [] : [end - began]));
    const waited = attempts.flatMap(({ asked, began }) => (began === null ? [] : [Math.max(0, began - asked)]));
    if (took.length === 0 && saved === null) return [];
    return [
      {
        task,
        day,
        ran: took.length ? 1 : 0,
        reused: saved === null ? 0 : 1,
        failed: state === 'failed' ? 1 : 0,
        flaky: flaky ? 1 : 0,
        tookMs: took.reduce((sum, ms) => sum + ms, 0),
        savedMs: saved ?? 0,
        took: spreadOf(took),
        waited: spreadOf(waited),
      },
    ];
  });
}

const sumOf = <Row>(all: readonly Row[], of: (row: Row) => number): number =>
  all.reduce((sum, row) => sum + of(row), 0);

/** Of one task and day: one at least. */
export const addTaskDays = (all: readonly TaskDay[]): TaskDay => ({
  ...(all[0] as TaskDay),
  ran: sumOf(all, (row) => row.ran),
  reused: sumOf(all, (row) => row.reused),
  failed: sumOf(all, (row) => row.failed),
  flaky: sumOf(all, (row) => row.flaky),
  tookMs: sumOf(all, (row) => row.tookMs),
  savedMs: sumOf(all, (row) => row.savedMs),
  took: addSpreads(all.map(({ took }) => took)),
  waited: addSpreads(all.map(({ waited }) => waited)),
});

/** A commit of main that a deployment brought to where nothing comes after. */
export interface Change {
  committed: number;
  pushed: number;
  /** When its run ended. */
  built: number;
  asked: number;
  live: number;
}

export interface DeliveryDay {
  environment: string;
  day: string;
  /** Deployments that went live. */
  live: number;
  /** Deployments that somebody has seen: some of the traffic was led to them. */
  seen: number;
  /** Of those: whose place was taken back, or mended by what came next. */
  failed: number;
  /** Deployments that failed before anybody has seen them. */
  unseen: number;
  lead: Spread;
  pushed: Spread;
  built: Spread;
  waited: Spread;
  brought: Spread;
  restored: Spread;
}

export const emptyDay = (environment: string, day: string): DeliveryDay => ({
  environment,
  day,
  live: 0,
  seen: 0,
  failed: 0,
  unseen: 0,
  lead: {},
  pushed: {},
  built: {},
  waited: {},
  brought: {},
  restored: {},
});

/** The parts of the way add up to all of it; a clock that goes wrong makes none of them less than nothing. */
export function changeSpreads(
  changes: readonly Change[],
): Pick<DeliveryDay, 'lead' | 'pushed' | 'built' | 'waited' | 'brought'> {
  const of = (length: (one: Change) => number) => spreadOf(changes.map((one) => Math.max(0, length(one))));
  return {
    lead: of((one) => one.live - Math.min(one.committed, one.pushed)),
    pushed: of((one) => one.pushed - one.committed),
    built: of((one) => one.built - one.pushed),
    // What was asked for before its own run had ended came with a later commit.
    waited: of((one) => one.asked - one.built),
    brought: of((one) => one.live - one.asked),
  };
}

/** How a deployment ended up. */
export interface EndedDeployment {
  state: 'live' | 'replaced' | 'failed' | 'reverted';
  /** When some of the traffic was led to it first; null: never. */
  seen: number | null;
  ended: number | null;
  /** Since when it was not in good health, as it was last; null: it was. */
  poor: number | null;
  /** It was a split that a person has ended: that says nothing of the release. */
  splitEnded: boolean;
  /** What took its place: whether that was a revert, when it was asked for, and since when it was live; null: nothing has yet. */
  next: { revert: boolean; asked: number; live: number | null } | null;
}

/** Milliseconds from the first sign until it was well again; `failed`: whether there was one at all. */
export function failureOf({ state, seen, ended, poor, splitEnded, next }: EndedDeployment): {
  failed: boolean;
  restoredMs: number | null;
} {
  if (seen === null || state === 'live' || splitEnded) return { failed: false, restoredMs: null };
  if (state === 'failed') return { failed: true, restoredMs: ended === null ? null : Math.max(0, ended - seen) };
  if (!next || (!next.revert && poor === null)) return { failed: false, restoredMs: null };
  // Whoever takes it back without a sign has seen one by then.
  const sign = Math.min(poor ?? next.asked, next.asked);
  return { failed: true, restoredMs: next.live === null ? null : Math.max(0, next.live - sign) };
}

/** Of one environment and day: one at least. */
export const addDeliveryDays = (all: readonly DeliveryDay[]): DeliveryDay => ({
  ...(all[0] as DeliveryDay),
  live: sumOf(all, (row) => row.live),
  seen: sumOf(all, (row) => row.seen),
  failed: sumOf(all, (row) => row.failed),
  unseen: sumOf(all, (row) => row.unseen),
  lead: addSpreads(all.map(({ lead }) => lead)),
  pushed: addSpreads(all.map(({ pushed }) => pushed)),
  built: addSpreads(all.map(({ built }) => built)),
  waited: addSpreads(all.map(({ waited }) => waited)),
  brought: addSpreads(all.map(({ brought }) => brought)),
  restored: addSpreads(all.map(({ restored }) => restored)),
});
