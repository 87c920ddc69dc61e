/** Looks into resources: bounded in time, with rights to read alone, and every refusal of a server said in words. */
import { accessFor, mostFor } from '../../core/advance/sizes.js';
import { type DatabaseAccess, resourcePlaces } from '../../core/states.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import { environmentById } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { projectById } from '../../records/projects/projects.js';
import {
  keepLook,
  lockResourceById,
  noteIssue,
  type ResourceRow,
  unseenResources,
} from '../../records/resources/resources.js';
import type { Looked, TableFacts, TableRows } from '../../resources/kinds.js';
import type { DatabaseKind } from '../../resources/postgres/kind.js';
import { outcomeOf } from '../../resources/postgres/server.js';
import type { Context, Db } from '../context.js';

type Looking = Pick<Context, 'kinds' | 'keys' | 'records' | 'log' | 'sizes'>;

/** Milliseconds for which a look at a server may hold an answer up. */
const lookMs = 2_000;
/** Milliseconds after which one is looked at again, and how many at a time. */
const unseenMs = 60_000;
const most = 200;

/** Sees what it takes by now; a server that does not answer holds nothing up. */
export const look = (context: Looking, row: ResourceRow): Promise<void> => lookAt(context, [row]);

/** Sees those that nobody has looked at for longest. */
export async function lookAround(context: Looking): Promise<void> {
  await lookAt(context, await unseenResources(context.records, unseenMs, most));
}

/** One question for all that are on one server. */
async function lookAt(context: Looking, rows: readonly ResourceRow[]): Promise<void> {
  // The agents say it of volumes, again and again.
  const own = rows.filter((row) => row.state === 'ready' && row.place !== 'elsewhere' && row.kind !== 'volume');
  const looked = resourcePlaces.map((place) => {
    const list = own.filter((row) => row.place === place);
    return seeThem(context, list).catch((error: Error) =>
      context.log.warn({ resources: list.map((row) => row.id), error: String(error) }, 'resources were not seen'),
    );
  });
  await Promise.race([Promise.all(looked), new Promise((resolve) => setTimeout(resolve, lookMs).unref())]);
}

async function seeThem(context: Looking, rows: readonly ResourceRow[]): Promise<void> {
  const [first] = rows;
  if (!first) return;
  const seen = await context.kinds.database(first).lookAt(rows.map((row) => row.id));
  for (const row of rows) {
    const found = seen.get(row.id);
    // One that is gone is said where people look, until something is done about it.
    if (found) await (isKnown(context, row, found) ? null : weigh(context, row.id, found));
    else await noteIssue(context.records, row.id, issue('database_gone'));
  }
}

const mostOf = ({ sizes }: Pick<Context, 'sizes'>, { place, plan }: ResourceRow) =>
  mostFor(place, plan.size ?? null, sizes);

/** What programs may do with one that holds so many bytes. */
export const accessOf = (context: Pick<Context, 'sizes'>, row: ResourceRow, bytes: number): DatabaseAccess =>
  accessFor({ bytes, most: mostOf(context, row), place: row.place, access: row.access });

/** Nothing is to be written of one that was put behind the others just now, and is as it was. */
function isKnown(context: Pick<Context, 'sizes'>, row: ResourceRow, { bytes, connections }: Looked): boolean {
  const { most, access, looked_at } = row;
  const same = row.bytes === String(bytes) && row.connections === connections;
  const bound =
    (most === null ? null : Number(most)) === mostOf(context, row) && access === accessOf(context, row, bytes);
  return same && bound && Date.now() - (looked_at?.getTime() ?? 0) < justNowMs;
}
const justNowMs = 5_000;

/** Keeps what was seen of one, and says what programs may do with it from now on. */
async function weigh(context: Looking, id: string, { bytes, connections }: Looked): Promise<void> {
  await context.records.transition('resource.seen', async (db) => {
    const row = await lockResourceById(db, id);
    if (row?.state !== 'ready') return;
    const access = accessOf(context, row, bytes);
    await keepLook(db, id, { bytes, connections, most: mostOf(context, row), access });
    await tellAccess(context, db, row, access, bytes);
  });
}

/** Says what programs may do from now on, where it is something else than before. */
export async function tellAccess(
  context: Pick<Context, 'sizes'>,
  db: Db,
  row: ResourceRow,
  access: DatabaseAccess,
  bytes: number | null,
): Promise<void> {
  if (access === row.access) return;
  const environment = await environmentById(db, row.environment_id);
  const project = await projectById(db, environment.project_id);
  await recordEvents(db, {
    type: 'resource.access',
    project: project.id,
    subject: `${project.name}/${environment.name}`,
    actor: 'engine',
    data: { resource: row.name, access, bytes, most: mostOf(context, row) },
  });
}

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
