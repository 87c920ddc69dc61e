/** Wakes of a project's other environments, from transactions that lock one environment alone. */
import { type Db, notify, query, queryOne } from '../database.js';
import { dueStanding } from './environments.js';
import { lookForRoom } from './life.js';

/** Standing environments of the project look again after this transaction; with a plan, its reviews that are awake. */
export async function addWake(db: Db, project: string, plan: string | null = null): Promise<void> {
  await query(db, 'insert into wakes (project_id, plan) values ($1, $2)', [project, plan]);
  await notify(db, 'wakes');
}

/** Carries out one wake and all others like it; false when there is none. In a transaction. */
export async function carryOutWake(db: Db): Promise<boolean> {
  const wake = await queryOne<{ project_id: string; plan: string | null }>(
    db,
    'delete from wakes where id = (select id from wakes order by id limit 1 for update skip locked) returning project_id, plan',
  );
  if (!wake) return false;
  const { project_id: project, plan } = wake;
  await query(
    db,
    `delete from wakes where id in (
       select id from wakes where project_id = $1 and plan is not distinct from $2 for update skip locked)`,
    [project, plan],
  );
  await (plan === null ? dueStanding(db, project) : lookForRoom(db, project, plan));
  return true;
}
