/** Rows that only the newest of are asked for: older ones are deleted, some thousands at a time. */
import { type Db, query } from '../database.js';

/** Rows of one statement. */
const atOnce = 5_000;
/** Days for which a settled event of a code host is known: one that is sent again within that time counts once. */
const intakeDays = 30;
const pushDays = 90;

/**
 * Deletes settled events of code hosts, recorded pushes, and what the definitions of trimmed runs' commits said. Main's definition, and
 * those of releases that have their bytes, stay. Returns how many rows went.
 */
export async function forgetOld(db: Db): Promise<number> {
  const intake = await query(
    db,
    `delete from intake where ctid in (
       select ctid from intake where due_at is null and at < now() - $1::int * interval '1 day' limit $2) returning 1`,
    [intakeDays, atOnce],
  );
  const pushes = await query(
    db,
    `delete from pushes where ctid in (
       select ctid from pushes where state <> 'intended' and at < now() - $1::int * interval '1 day' limit $2) returning 1`,
    [pushDays, atOnce],
  );
  const definitions = await query(
    db,
    `delete from definitions where ctid in (
       select d.ctid from definitions d join projects p on p.id = d.project_id
       where d.commit is distinct from p.definition_commit
         and exists (select 1 from runs r where r.project_id = d.project_id and r.commit = d.commit)
         and not exists (select 1 from runs r where r.project_id = d.project_id and r.commit = d.commit and r.trimmed_at is null)
         and not exists (select 1 from releases l where l.project_id = d.project_id and l.commit = d.commit and l.gone_at is null)
       limit $1) returning 1`,
    [atOnce],
  );
  return intake.length + pushes.length + definitions.length;
}
