/** Counts what has ended, each run and each deployment once, into rows of days. */
import {
  addDeliveryDays,
  addTaskDays,
  changeSpreads,
  dayOf,
  type DeliveryDay,
  emptyDay,
  failureOf,
  type TaskDay,
  taskDays,
} from '../../core/delivery/rows.js';
import { spreadOf } from '../../core/delivery/spread.js';
import {
  addDelivery,
  addFlaky,
  addTasks,
  changesOf,
  endedTasks,
  flakyTests,
  lockCounting,
  markDeployments,
  markRuns,
  uncountedDeployments,
  type UncountedDeployment,
  uncountedRuns,
} from '../../records/delivery/counting.js';
import { mainDefinition } from '../../records/projects/projects.js';
import type { Context, Db } from '../context.js';

/** Runs, and deployments, that one transaction counts. */
const mostRuns = 200;
const mostDeployments = 50;

/** Gives whether there may be more. */
export async function countEnded(context: Context): Promise<boolean> {
  const runs = await context.records.transition('delivery.counted', countRuns);
  const deployments = await context.records.transition('delivery.counted', countDeployments);
  return runs || deployments;
}

async function countRuns(db: Db): Promise<boolean> {
  await lockCounting(db);
  const runs = await uncountedRuns(db, mostRuns);
  if (runs.length === 0) return false;
  const ids = runs.map(({ id }) => id);
  const tasks = await endedTasks(db, ids);
  const rows = new Map<string, TaskDay[]>();
  for (const run of runs) {
    const own = taskDays(
      run.ended,
      tasks.filter((one) => one.run_id === run.id),
    );
    rows.set(run.project_id, [...(rows.get(run.project_id) ?? []), ...own]);
  }
  for (const [project, all] of rows) await addTasks(db, project, gathered(all, keyOfTask, addTaskDays), addTaskDays);
  for (const day of new Set(runs.map(({ ended }) => dayOf(ended)))) {
    const ofDay = runs.filter(({ ended }) => dayOf(ended) === day).map(({ id }) => id);
    const flaky = await flakyTests(db, ofDay);
    if (flaky.length) await addFlaky(db, day, flaky);
  }
  await markRuns(db, ids);
  return runs.length === mostRuns;
}

async function countDeployments(db: Db): Promise<boolean> {
  await lockCounting(db);
  const found = await uncountedDeployments(db, mostDeployments);
  if (found.length === 0) return false;
  const ends = new Map<string, ReadonlySet<string>>();
  const rows = new Map<string, DeliveryDay[]>();
  for (const one of found) {
    const last =
      ends.get(one.project_id) ?? lastOf((await mainDefinition(db, one.project_id))?.model.environments ?? {});
    ends.set(one.project_id, last);
    if (!one.standing || one.kind === 'revert' || !last.has(one.plan_name)) continue;
    rows.set(one.project_id, [...(rows.get(one.project_id) ?? []), ...(await daysOf(db, one))]);
  }
  for (const [project, all] of rows)
    await addDelivery(db, project, gathered(all, keyOfDay, addDeliveryDays), addDeliveryDays);
  for (const counted of ['live', 'over'] as const) {
    const ids = found.filter(({ state }) => (state === 'live') === (counted === 'live')).map(({ id }) => id);
    if (ids.length) await markDeployments(db, ids, counted);
  }
  return found.length === mostDeployments;
}

/** Plans after which none comes. */
const lastOf = (plans: Record<string, { name: string; after: string | null }>): ReadonlySet<string> =>
  new Set(Object.keys(plans).filter((name) => !Object.values(plans).some(({ after }) => after === name)));

/** What a deployment adds, by what has been counted of it: when it is live, and when it no longer is. */
async function daysOf(db: Db, one: UncountedDeployment): Promise<DeliveryDay[]> {
  const { environment_id: environment, live, seen, ended, asked, counted } = one;
  const days: DeliveryDay[] = [];
  if (counted === null && live !== null) {
    const { run } = one;
    const changes =
      run === null ? [] : (await changesOf(db, { ...one, run })).map((change) => ({ ...change, asked, live }));
    days.push({ ...emptyDay(environment, dayOf(live)), live: 1, seen: 1, ...changeSpreads(changes) });
  }
  if (one.state === 'live') return days;
  const first = live ?? seen;
  if (first === null) {
    // One that another took the place of in the queue was no failure.
    if (one.state === 'failed') days.push({ ...emptyDay(environment, dayOf(ended ?? asked)), unseen: 1 });
    return days;
  }
  const { failed, restoredMs } = failureOf({ ...one, seen: first });
  days.push({
    ...emptyDay(environment, dayOf(first)),
    seen: live === null ? 1 : 0,
    failed: failed ? 1 : 0,
    restored: restoredMs === null ? {} : spreadOf([restoredMs]),
  });
  return days;
}

const keyOfTask = ({ task, day }: TaskDay) => `${day} ${task}`;
const keyOfDay = ({ environment, day }: DeliveryDay) => `${day} ${environment}`;

function gathered<Row>(rows: readonly Row[], keyOf: (row: Row) => string, add: (all: Row[]) => Row): Row[] {
  const by = new Map<string, Row[]>();
  for (const row of rows) by.set(keyOf(row), [...(by.get(keyOf(row)) ?? []), row]);
  return [...by.values()].map(add);
}
