/** Runs what has not run yet of the migrations. Apart, because at nearly each start there is nothing to do. */
import { Umzug } from 'umzug';
import { type Db, query } from './database.js';

/** @param executed names of those that have run; `upTo`: the name of the last one to run */
export async function bringUp(
  db: Db,
  migrations: readonly { name: string; up: string }[],
  executed: () => Promise<string[]>,
  upTo?: string,
): Promise<void> {
  const umzug = new Umzug({
    migrations: migrations.map(({ name, up }) => ({ name, up: async () => void (await query(db, up)) })),
    logger: undefined,
    storage: {
      logMigration: async ({ name }) => void (await query(db, 'insert into migrations (name) values ($1)', [name])),
      unlogMigration: async ({ name }) => void (await query(db, 'delete from migrations where name = $1', [name])),
      executed,
    },
  });
  await umzug.up(upTo ? { to: upTo } : undefined);
}
