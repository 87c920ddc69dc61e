/**
 * The epoch of the records: a random id that changes with each restore, also to a point in time. An edge that remembers another epoch
 * knows that its table is of other records.
 */
import { type Db, query, queryOne } from './database.js';

/**
 * Compares where the records are with where they were at the last start. A dump that was restored is in another database or table. A copy of
 * the cluster that went on alone has another timeline. In both cases the records get a new epoch, and no edge counts as having their table.
 * The timeline is the first eight digits of the name of the WAL segment that is written now. The control file has the one of the last
 * checkpoint only. Several services may call this at once.
 */
export async function settleEpoch(db: Db): Promise<{ epoch: string; restored: boolean }> {
  const row = await queryOne<{ epoch: string; before: string; place: string }>(
    db,
    `with seen as (
       select concat_ws(' ', (select system_identifier from pg_control_system()), left(pg_walfile_name(pg_current_wal_lsn()), 8),
         (select oid from pg_database where datname = current_database()), 'installation'::regclass::oid) as place),
     before as (select place from installation for update)
     update installation i
     set place = seen.place, epoch = case when before.place in ('', seen.place) then i.epoch else gen_random_uuid() end
     from seen, before returning i.epoch, before.place as before, seen.place as place`,
  );
  if (!row) throw new Error('the records have no epoch');
  const restored = row.before !== '' && row.before !== row.place;
  if (restored) await query(db, `update edges set acknowledged = 0, without = '{}'`);
  return { epoch: row.epoch, restored };
}

/** The epoch of the records. */
export async function epochOf(db: Db): Promise<string> {
  const row = await queryOne<{ epoch: string }>(db, 'select epoch from installation');
  if (!row) throw new Error('the records have no epoch');
  return row.epoch;
}
