/** Looks into resources: bounded in time, with rights to read alone, and every refusal of a server said in words. */
import { CodedError } from '../../core/errors/errors.js';
import { keepLook, noteIssue, type ResourceRow, unseenResources } from '../../records/resources/resources.js';
import type { TableFacts, TableRows } from '../../resources/kinds.js';
import type { DatabaseKind } from '../../resources/postgres/kind.js';
import { outcomeOf } from '../../resources/postgres/server.js';
import type { Context } from '../context.js';

type Looking = Pick<Context, 'kinds' | 'keys' | 'records' | 'log'>;

/** Milliseconds for which a look at a server may hold an answer up. */
const lookMs = 2_000;

/** Sees what it takes by now; a server that does not answer holds nothing up. */
export async function look(context: Looking, row: ResourceRow): Promise<void> {
  // The agents say it of volumes, again and again.
  if (row.state !== 'ready' || row.place === 'elsewhere' || row.kind === 'volume') return;
  const looked = (async () => {
    const { bytes, connections } = await context.kinds.of(row).look(row.id);
    await keepLook(context.records, row.id, bytes, connections);
  })().catch(async (error: Error) => {
    context.log.warn({ resource: row.id, error: String(error) }, 'a resource was not seen');
    const { issue } = outcomeOf(error);
    // One that is gone is said where people look, until something is done about it.
    if (issue.code === 'database_gone') await noteIssue(context.records, row.id, issue).catch(() => {});
  });
  await Promise.race([looked, new Promise((resolve) => setTimeout(resolve, lookMs).unref())]);
}

/** Sees those that nobody has looked at for longest. */
export async function lookAround(context: Looking): Promise<void> {
  for (const row of await unseenResources(context.records, unseenMs, most)) await look(context, row);
}
/** Milliseconds after which one is looked at again, and how many at a time. */
const unseenMs = 300_000;
const most = 50;

/** With the role that only reads: its password is the same for all who look at once, and known to nobody. */
async function asReader<T>(
  context: Looking,
  row: ResourceRow,
  work: (kind: DatabaseKind, password: string) => Promise<T>,
): Promise<T> {
  try {
    return await work(context.kinds.database(row), context.keys.hash(`reader ${row.id}`));
  } catch (error) {
    if (error instanceof CodedError) throw error;
    const { code, data } = outcomeOf(error).issue;
    throw new CodedError(code, data, error);
  }
}

export const tablesOf = (context: Looking, row: ResourceRow): Promise<TableFacts[]> =>
  asReader(context, row, (kind, password) => kind.tables(row.id, password));

export const rowsOf = (
  context: Looking,
  row: ResourceRow,
  table: { schema: string; name: string },
  from: number,
): Promise<TableRows> => asReader(context, row, (kind, password) => kind.rows(row.id, password, table, from));
