/** Wakes of a project's other environments, from transactions that lock one environment alone. */
import { type Db, notify, query, queryOne } from '../database.js';
import { lookForRoom } from './life.js';

/** Standing environments of the project look again after this transaction; with a plan, its reviews that are awake. */
export async function addWake(db: Db, project: string, plan: string | null = null): Promise<void> {
  await query(db, 'insert into wakes (project_id, plan) values ($1, $2)', [project, plan]);
  await notify(db, 'wakes');
}

/**
 * Carries out one wake and all others like it; false when there is none that can be carried out now. In a transaction. A wake of a
 * project becomes one for each of its environments: one that another transaction has locked is woken later, and delays no other one.
 */
export async function carryOutWake(db: Db): Promise<boolean> {
  if (await wakeOne(db)) return true;
  const wake = await queryOne<{ project_id: string; plan: string | null }>(
    db,
    `delete from wakes where id = (
       select id from wakes where environment_id is null order by id limit 1 for update skip locked) returning project_id, plan`,
  );
  if (!wake) return false;
  const { project_id: project, plan } = wake;
  await query(
    db,
    `delete from wakes where id in (
       select id from wakes where environment_id is null and project_id = $1 and plan is not distinct from $2 for update skip locked)`,
    [project, plan],
  );
  if (plan !== null) await lookForRoom(db, project, plan);
  else
    await query(
      db,
      `insert into wakes (project_id, environment_id)
       select project_id, id from environments where project_id = $1 and state <> 'closed' and kind = 'standing'`,
      [project],
    );
  return true;
}

/** Wakes the first environment of those that are to be woken and that no other transaction has locked. */
async function wakeOne(db: Db): Promise<boolean> {
  const woken = await queryOne(
    db,
    `with one as (
       select w.id, e.id as environment from wakes w join environments e on e.id = w.environment_id
       order by w.id limit 1 for update skip locked
     ), gone as (
       delete from wakes where id in (select id from one)
     )
     update environments set due_at = now() where id = (select environment from one) returning 1 as ok`,
  );
  if (woken) await notify(db, 'environments');
  return woken !== null;
}

/** Milliseconds until wakes that could not be carried out are tried again; null: there are none. */
export const wakesDue = async (db: Db): Promise<number | null> =>
  (await queryOne(db, 'select 1 as ok from wakes limit 1')) === null ? null : 50;
