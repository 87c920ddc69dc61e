/** A database that is kept elsewhere takes the place of one that would be made here: tried before it is kept. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import { CodedError, type Issue } from '../../core/errors/errors.js';
import type { ResourcePlan } from '../../core/definition/model.js';
import { elsewhere, partsOf } from '../../resources/postgres/elsewhere.js';
import { codeOf } from '../../resources/postgres/server.js';
import { recordEvents } from '../../records/events.js';
import { connectResource, findResource } from '../../records/resources/resources.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';
import type { Place } from './acts.js';

/** Tries the address. What comes back says no more than that it accepts, refuses, or does not answer: it may be a stranger's. */
export async function tryAddress(context: Pick<Context, 'kinds'>, url: string): Promise<void> {
  const { host } = partsOf(url);
  try {
    await elsewhere(url, context.kinds.check).make('', { extensions: [] });
  } catch (error) {
    if (error instanceof CodedError) throw error;
    const code = codeOf(error);
    const what: Issue['code'] = /^28/.test(code)
      ? 'database_login'
      : /^3D/.test(code)
        ? 'database_missing'
        : code === 'ECONNREFUSED'
          ? 'database_closed'
          : 'database_silent';
    throw new CodedError(what, { host });
  }
}

/** Only where there is none that was made here: its data would be out of reach. */
export async function connect(context: Context, db: Db, at: Place, url: string, actor: string): Promise<void> {
  const environment = await openEnvironment(db, at.project, at.environment);
  const place = placeOf(at.project, environment);
  const there = await findResource(db, environment.id, at.name);
  if (there?.kind === 'volume') throw new CodedError('resource_no_database', { name: at.name });
  if (there && there.place !== 'elsewhere')
    throw new CodedError('resource_there', { name: at.name, environment: place });
  const plan: ResourcePlan = there?.plan ?? { name: at.name, kind: 'postgres', extensions: [], backup: null };
  const id = there?.id ?? newId();
  await connectResource(db, id, environment.id, plan, context.keys.encrypt(url, sealedPlace('resources', id)));
  await recordEvents(db, {
    type: 'resource.connected',
    project: at.project.id,
    subject: place,
    actor,
    data: { resource: at.name, host: partsOf(url).host },
  });
}
