/** What people, and the definition of the main branch, ask of addresses: each is one transaction; what is slow outside follows by itself. */
import { answered } from '../../core/advance/addresses.js';
import { checkedLabel, checkedName, isServiceHost } from '../../core/domains/names.js';
import { CodedError } from '../../core/errors/errors.js';
import { putRoute, routeBody } from '../../records/callers/edges.js';
import {
  addAddress,
  type AddressRow,
  addressesOf,
  declareAddress,
  findAddress,
  removeAddresses,
  wakeAddress,
} from '../../records/domains/addresses.js';
import { removeUnused } from '../../records/domains/certificates.js';
import { type EnvironmentRow, hostIsFree, setHost, setServing } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { type Context, type Db, domainOf } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';

/** Addresses of one environment. */
const most = 20;

export interface AddressPlace {
  project: ProjectRow;
  environment: string;
}

const ours = ({ addresses }: Context): string[] => [addresses.standing, addresses.review, addresses.untrusted];

/** What no environment is reached under. `console` is kept free below every domain: people would take it for the service's own. */
function refuseServiceHost(context: Context, host: string): void {
  const console = new URL(context.url).hostname.toLowerCase();
  if (isServiceHost(host, [...ours(context), console]) || host.startsWith('console.'))
    throw new CodedError('address_refused', { name: host, why: 'it is a name of the service itself' });
}

async function addressAt(db: Db, { project, environment: of }: AddressPlace, name: string) {
  const environment = await openEnvironment(db, project, of);
  const row = await findAddress(db, environment.id, name.trim().toLowerCase());
  if (!row) throw addressUnknown(placeOf(project, environment), name);
  return { environment, row, place: placeOf(project, environment) };
}

export const addressUnknown = (environment: string, name: string): CodedError =>
  new CodedError('address_unknown', { name: name.slice(0, 100), environment });

/** Adds a name of one's own: its proof is looked for from now on. */
export async function addOwnAddress(
  context: Context,
  db: Db,
  at: AddressPlace,
  name: string,
  actor: string,
): Promise<AddressRow> {
  const host = checkedName(name, ours(context));
  refuseServiceHost(context, host);
  const environment = await openEnvironment(db, at.project, at.environment);
  const place = placeOf(at.project, environment);
  if ((await addressesOf(db, environment.id)).length >= most)
    throw new CodedError('addresses_enough', { environment: place, most });
  const row = await addAddress(db, { environment: environment.id, host, kind: 'own', declared: false, actor });
  if (!row) throw new CodedError('address_there', { name: host, environment: place });
  await tell(db, at.project, place, actor, 'address.added', host);
  return row;
}

/** Looks at it now; one that failed begins again. */
export async function checkAddress(db: Db, at: AddressPlace, name: string): Promise<AddressRow> {
  const { row } = await addressAt(db, at, name);
  await wakeAddress(db, row.id, row.state === 'failed');
  return row;
}

export async function removeAddress(db: Db, at: AddressPlace, name: string, actor: string): Promise<void> {
  const { environment, row, place } = await addressAt(db, at, name);
  if (row.host === environment.host) throw new CodedError('address_given', { name: row.host, environment: place });
  if (row.declared) throw new CodedError('address_declared', { name: row.host });
  await removeAll(db, environment, [row]);
  await tell(db, at.project, place, actor, 'address.removed', row.host);
}

/** Gives an environment another name of the service's; the one before leads there too until somebody removes it. */
export async function renameAddress(
  context: Context,
  db: Db,
  at: AddressPlace,
  label: string,
  actor: string,
): Promise<string> {
  const environment = await openEnvironment(db, at.project, at.environment);
  const place = placeOf(at.project, environment);
  // A review of an untrusted pull request stays below the domain of those, whatever it is called.
  const domain = domainOf(context.addresses, environment.outside ? 'untrusted' : environment.kind);
  const host = `${checkedLabel(label)}.${domain}`;
  refuseServiceHost(context, host);
  if (host === environment.host) return host;
  const rows = await addressesOf(db, environment.id);
  if (rows.length >= most) throw new CodedError('addresses_enough', { environment: place, most });
  const earlier = rows.find((one) => one.host === host);
  if (!earlier && !(await hostIsFree(db, host))) throw new CodedError('name_taken', { what: 'address', name: host });
  if (!earlier) await addAddress(db, { environment: environment.id, host, kind: 'given', declared: false, actor });
  const body = await routeBody(db, environment.host);
  const version = await putRoute(db, host, environment.id, body);
  await setHost(db, environment.id, host);
  if (body) await setServing(db, environment.id, environment.serving_id, version);
  // All other names lead to the new one, after it is there.
  for (const row of rows)
    if (row.host !== host && answered(row.state)) await putRoute(db, row.host, environment.id, { alias: host });
  await tell(db, at.project, place, actor, 'address.renamed', host, { before: environment.host });
  return host;
}

/** Brings an environment's addresses to what the service has given it and the definition of the main branch names. */
export async function syncAddresses(
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  declared: readonly string[],
): Promise<void> {
  const rows = await addressesOf(db, environment.id);
  const place = placeOf(project, environment);
  const actor = 'engine';
  if (!rows.some((row) => row.host === environment.host))
    await addAddress(db, {
      environment: environment.id,
      host: environment.host,
      kind: 'given',
      declared: false,
      actor,
    });
  for (const host of declared) {
    const row = rows.find((one) => one.host === host);
    if (row?.declared) continue;
    if (row) await declareAddress(db, row.id, true);
    else if (await addAddress(db, { environment: environment.id, host, kind: 'own', declared: true, actor }))
      await tell(db, project, place, actor, 'address.added', host);
  }
  const gone = rows.filter((row) => row.declared && !declared.includes(row.host));
  if (gone.length) await removeAll(db, environment, gone);
  for (const row of gone) await tell(db, project, place, actor, 'address.removed', row.host);
}

/** Nothing of an environment that closes leads anywhere. */
export const removeAddressesOf = async (db: Db, environment: EnvironmentRow): Promise<void> =>
  removeAll(db, environment, await addressesOf(db, environment.id));

async function removeAll(db: Db, environment: EnvironmentRow, rows: readonly AddressRow[]): Promise<void> {
  await removeAddresses(
    db,
    rows.map((row) => row.id),
  );
  for (const row of rows)
    if (row.host !== environment.host && answered(row.state)) await putRoute(db, row.host, environment.id, null);
  await removeUnused(db);
}

const tell = (
  db: Db,
  project: ProjectRow,
  subject: string,
  actor: string,
  type: 'address.added' | 'address.removed' | 'address.renamed',
  address: string,
  more: Record<string, string> = {},
): Promise<void> => recordEvents(db, { type, project: project.id, subject, actor, data: { address, ...more } });
