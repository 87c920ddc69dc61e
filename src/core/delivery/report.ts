/** What rows of days come to: by week, by project, and over all of it. */
import { addDeliveryDays, addTaskDays, dayOf, type DeliveryDay, emptyDay, type TaskDay } from './rows.js';
import { addSpreads, countOf, quantileOf, quantilesOf, type Spread } from './spread.js';

const dayMs = 86_400_000;

/** The Monday (ISO 8601) of a day, both as `2026-11-23`, of UTC. */
export function weekOf(day: string): string {
  const at = Date.parse(`${day}T00:00:00Z`);
  return dayOf(at - ((new Date(at).getUTCDay() + 6) % 7) * dayMs);
}

/** The last weeks up to the one of a moment (milliseconds since the epoch), the oldest first, by their Mondays. */
export function lastWeeks(now: number, count: number): string[] {
  const last = Date.parse(`${weekOf(dayOf(now))}T00:00:00Z`);
  return Array.from({ length: count }, (_, at) => dayOf(last - (count - 1 - at) * 7 * dayMs));
}

/** Milliseconds; null where nothing was counted. */
export interface Lengths {
  count: number;
  half: number | null;
  nineOfTen: number | null;
}

function lengths(spread: Spread): Lengths {
  const [half = null, nineOfTen = null] = quantilesOf(spread, [0.5, 0.9]);
  return { count: countOf(spread), half, nineOfTen };
}

export interface DeliveryMeasures {
  deployments: number;
  seen: number;
  failed: number;
  unseen: number;
  /** 0 to 1; null: nobody has seen any. */
  failedShare: number | null;
  lead: Lengths;
  pushed: Lengths;
  built: Lengths;
  waited: Lengths;
  brought: Lengths;
  restored: Lengths;
}

function measuresOf(rows: readonly DeliveryDay[]): DeliveryMeasures {
  const sum = addDeliveryDays([emptyDay('', ''), ...rows]);
  return {
    deployments: sum.live,
    seen: sum.seen,
    failed: sum.failed,
    unseen: sum.unseen,
    failedShare: sum.seen === 0 ? null : sum.failed / sum.seen,
    lead: lengths(sum.lead),
    pushed: lengths(sum.pushed),
    built: lengths(sum.built),
    waited: lengths(sum.waited),
    brought: lengths(sum.brought),
    restored: lengths(sum.restored),
  };
}

export interface Over<T> {
  all: T;
  /** One a week, in their order. */
  weeks: T[];
}

/** One row a week, or null: so that a year is not added up day by day for every figure. */
export type ByWeek<Row> = readonly (Row | null)[];

function byWeek<Row extends { day: string }>(
  rows: readonly Row[],
  weeks: readonly string[],
  add: (all: readonly Row[]) => Row,
): ByWeek<Row> {
  const of = new Map<string, Row[]>(weeks.map((week) => [week, []]));
  const known = new Map<string, string>();
  for (const row of rows) {
    const week = known.get(row.day) ?? weekOf(row.day);
    known.set(row.day, week);
    of.get(week)?.push(row);
  }
  return weeks.map((week) => {
    const own = of.get(week) ?? [];
    return own.length ? add(own) : null;
  });
}

/** Several of the same weeks together. */
function together<Row>(all: readonly ByWeek<Row>[], add: (rows: readonly Row[]) => Row): ByWeek<Row> {
  const [only] = all;
  if (only && all.length === 1) return only;
  return (only ?? []).map((_, at) => {
    const rows = all.flatMap((each) => each[at] ?? []);
    return rows.length ? add(rows) : null;
  });
}

function over<Row, T>(each: ByWeek<Row>, weeks: readonly string[], measure: (rows: readonly Row[]) => T): Over<T> {
  return {
    all: measure(each.filter((row) => row !== null)),
    weeks: weeks.map((_, at) => measure(each[at] ? [each[at]] : [])),
  };
}

export interface TaskWeeks {
  task: string;
  each: ByWeek<TaskDay>;
}

/** Of one project: its deployments, and each of its tasks. */
export interface ProjectWeeks {
  delivery: ByWeek<DeliveryDay>;
  tasks: TaskWeeks[];
}

export function weeksOf(
  { delivery, tasks }: { delivery: readonly DeliveryDay[]; tasks: readonly TaskDay[] },
  weeks: readonly string[],
): ProjectWeeks {
  const of = new Map<string, TaskDay[]>();
  for (const row of tasks) {
    const own = of.get(row.task);
    if (own) own.push(row);
    else of.set(row.task, [row]);
  }
  return {
    delivery: byWeek(delivery, weeks, addDeliveryDays),
    tasks: [...of].map(([task, all]) => ({ task, each: byWeek(all, weeks, addTaskDays) })),
  };
}

export const deliveryOver = (all: readonly ProjectWeeks[], weeks: readonly string[]): Over<DeliveryMeasures> =>
  over(
    together(
      all.map(({ delivery }) => delivery),
      addDeliveryDays,
    ),
    weeks,
    measuresOf,
  );

export interface TaskMeasures {
  task: string;
  ran: number;
  failed: number;
  flaky: number;
  took: Lengths;
  tookMs: number;
  /** Half of its attempts took at most this, a week each: milliseconds. */
  weeks: (number | null)[];
  /** The later half of the weeks against the earlier one: 1.2 is a fifth longer; null: one of them has nothing. */
  trend: number | null;
}

/** The slowest first: by what all of their attempts took together. */
export function slowest({ tasks }: ProjectWeeks, weeks: readonly string[], most: number): TaskMeasures[] {
  const half = (each: ByWeek<TaskDay>) => quantileOf(addSpreads(each.flatMap((row) => (row ? [row.took] : []))), 0.5);
  const middle = Math.ceil(weeks.length / 2);
  return tasks
    .map(({ task, each }) => ({ task, each, all: addTaskDays(each.filter((row) => row !== null)) }))
    .filter(({ all }) => all.ran > 0)
    .sort((a, b) => b.all.tookMs - a.all.tookMs || (a.task < b.task ? -1 : 1))
    .slice(0, most)
    .map(({ task, each, all: { ran, failed, flaky, took, tookMs } }): TaskMeasures => {
      const [before, after] = [half(each.slice(0, middle)), half(each.slice(middle))];
      return {
        task,
        ran,
        failed,
        flaky,
        took: lengths(took),
        tookMs,
        weeks: each.map((row) => half([row])),
        trend: before === null || after === null ? null : after / before,
      };
    });
}

export interface WorkMeasures {
  ran: number;
  reused: number;
  /** Of all tasks that ended: 0 to 1; null: none has. */
  reusedShare: number | null;
  savedMs: number;
  tookMs: number;
  /** For an agent. */
  waited: Lengths;
}

export const workOver = (all: readonly ProjectWeeks[], weeks: readonly string[]): Over<WorkMeasures> =>
  over(
    together(
      all.flatMap(({ tasks }) => tasks.map(({ each }) => each)),
      addTaskDays,
    ),
    weeks,
    (rows) => {
      const sum = (of: (row: TaskDay) => number) => rows.reduce((total, row) => total + of(row), 0);
      const [ran, reused] = [sum((row) => row.ran), sum((row) => row.reused)];
      return {
        ran,
        reused,
        reusedShare: ran + reused === 0 ? null : reused / (ran + reused),
        savedMs: sum((row) => row.savedMs),
        tookMs: sum((row) => row.tookMs),
        waited: lengths(addSpreads(rows.map(({ waited }) => waited))),
      };
    },
  );
