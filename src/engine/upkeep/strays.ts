/**
 * Finds what nobody owns: databases, roles and volumes of which nothing is recorded, and routes of what is closed. It is said when it is found.
 * What is recorded as gone is removed at once; what nothing is recorded of, only when it has been known for a while: the records may be
 * those of a backup, and what stands there all that is left of somebody's data.
 */
import { lockEnvironment } from '../../records/deployments/environments.js';
import { putRoute } from '../../records/callers/edges.js';
import { recordEvents } from '../../records/events.js';
import { forgetStrays, noteStray, recorded, recordedVolumes, strayRoutes } from '../../records/resources/strays.js';
import type { DatabaseKind, Standing } from '../../resources/postgres/kind.js';
import type { Context } from '../context.js';

export async function sweepStrays(context: Context): Promise<void> {
  for (const [place, server] of context.kinds.servers())
    await sweepServer(context, place, server).catch((error: Error) =>
      context.log.warn({ place, error: String(error) }, 'a server was not looked through'),
    );
  await sweepRoutes(context);
}

interface Found {
  place: string;
  /** What it is called where people read of it: `database ID`. */
  name: string;
  /** What is recorded of it; null: nothing. */
  one: { over: boolean } | null;
}

/** Says what is new of it; whether it is to go now. */
async function judge({ records, timing }: Context, { place, name, one }: Found): Promise<boolean> {
  const { ms, fresh } = await noteStray(records, place, name);
  const old = ms >= (one?.over ? timing.sweep : timing.stray);
  // What is recorded as gone may have been on its way out a moment ago.
  if (old || (fresh && !one))
    await recordEvents(records, {
      type: old ? 'stray.removed' : 'stray.found',
      project: null,
      subject: name,
      actor: 'engine',
      data: { place, recorded: one ? 'as gone' : 'nowhere' },
    });
  return old;
}

async function sweepServer(context: Context, place: string, server: DatabaseKind): Promise<void> {
  const { records } = context;
  const { resources, logins } = await server.there();
  const still: string[] = [];
  const look = async (
    table: 'resources' | 'logins',
    all: readonly Standing[],
    remove: (id: string) => Promise<void>,
  ) => {
    // What is made just now was recorded before: whoever is not there was not a moment ago.
    const known = await recorded(
      records,
      table,
      all.map(({ id }) => id),
    );
    for (const { id, ours } of all) {
      const one = known.get(id) ?? null;
      // What another house has made there is none of ours.
      if (one ? !one.over : !ours) continue;
      const name = `${table === 'resources' ? 'database' : 'login'} ${id}`;
      if (await judge(context, { place, name, one })) await remove(id);
      else still.push(name);
    }
  };
  await look('logins', logins, (id) => server.dropLogin(id));
  await look('resources', resources, (id) => server.remove(id));
  await forgetStrays(records, place, still);
}

/** Of the volumes that an agent has on its machine: those that belong to nobody, and shall go. */
export async function strayVolumes(
  context: Context,
  agent: { id: string; name: string },
  ids: readonly string[],
): Promise<string[]> {
  const { records } = context;
  const known = await recordedVolumes(records, agent.id, ids);
  const place = `agent ${agent.name}`;
  const [go, still]: [string[], string[]] = [[], []];
  for (const id of ids) {
    const one = known.get(id) ?? null;
    if (one && !one.over) continue;
    const name = `volume ${id}`;
    if (await judge(context, { place, name, one })) go.push(id);
    else still.push(name);
  }
  await forgetStrays(records, place, still);
  return go;
}

async function sweepRoutes({ records }: Context): Promise<void> {
  for (const { host, environment_id } of await strayRoutes(records))
    await records.transition('route.swept', async (db) => {
      const { state } = await lockEnvironment(db, environment_id);
      if (state !== 'closed') return;
      await putRoute(db, host, environment_id, null);
      await recordEvents(db, {
        type: 'stray.removed',
        project: null,
        subject: `route ${host}`,
        actor: 'engine',
        data: { place: 'edges', recorded: 'as gone' },
      });
    });
}
