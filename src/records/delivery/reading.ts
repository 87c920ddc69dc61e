/** Rows of days, as they are read for a span of them. */
import type { DeliveryDay, TaskDay } from '../../core/delivery/rows.js';
import { type Db, query } from '../database.js';

export type ProjectDelivery = DeliveryDay & { project: string };
export type ProjectTasks = TaskDay & { project: string };

/** Of projects that are there; `project`: this one alone. Days as `2026-11-23`. */
export const deliveryDays = (db: Db, from: string, project: string | null): Promise<ProjectDelivery[]> =>
  query(
    db,
    `select p.name as project, d.environment_id as environment, d.day::text as day, d.live, d.seen, d.failed, d.unseen, d.lead, d.pushed,
       d.built, d.waited, d.brought, d.restored
     from delivery_days d join projects p on p.id = d.project_id
     where d.day >= $1 and p.removed_at is null and ($2::uuid is null or p.id = $2)`,
    [from, project],
  );

export const taskDaysOf = (db: Db, from: string, project: string | null): Promise<ProjectTasks[]> =>
  query(
    db,
    `select p.name as project, d.task, d.day::text as day, d.ran, d.reused, d.failed, d.flaky, d.took_ms::float8 as "tookMs",
       d.saved_ms::float8 as "savedMs", d.took, d.waited
     from task_days d join projects p on p.id = d.project_id
     where d.day >= $1 and p.removed_at is null and ($2::uuid is null or p.id = $2)`,
    [from, project],
  );

export interface FlakyTest {
  project: string;
  task: string;
  test: string;
  times: number;
  /** The day on which it was seen last. */
  last: string;
}

export const flakiest = (db: Db, from: string, project: string | null, most: number): Promise<FlakyTest[]> =>
  query(
    db,
    `select p.name as project, f.task, f.test, sum(f.times)::int as times, max(f.day)::text as last
     from flaky_days f join projects p on p.id = f.project_id
     where f.day >= $1 and p.removed_at is null and ($2::uuid is null or p.id = $2)
     group by p.name, f.task, f.test order by times desc, last desc, f.test limit $3`,
    [from, project, most],
  );

/** Whether something has ended that is not counted yet. */
export const countingIsBehind = async (db: Db): Promise<boolean> =>
  (
    await query<{ behind: boolean }>(
      db,
      `select exists (select 1 from runs where not counted and ended_at is not null and ended_at < now() - interval '5 minutes') as behind`,
    )
  )[0]?.behind ?? false;
