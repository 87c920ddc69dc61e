/**
 * The records as a whole: their epoch. It is another one after a restore, also to a point in time, so that an edge which remembers what
 * the records said before knows that its memory is of other records.
 */
import { type Db, query, queryOne } from './database.js';

/**
 * Says where the records are (the first eight digits of a segment's name are the timeline that is written now; the control file would
 * tell the one of the last checkpoint), and whether they have come here from elsewhere since the last start: from a dump (another database or table),
 * or from a copy of the cluster that went on alone (another timeline). They have a new epoch then, and no edge counts as having any of
 * their table. Several services may call it at once.
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
