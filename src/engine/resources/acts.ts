/** What people ask of resources: each is one transaction; what is slow outside follows by itself. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import { CodedError } from '../../core/errors/errors.js';
import { coolAll, deploymentById, movingDeployments } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { findEnvironment } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { releaseById, type ReleaseRow } from '../../records/deployments/releases.js';
import {
  addBackup,
  type BackupRow,
  findBackup,
  isRestored,
  removeBackups,
  removeBackupsOf,
} from '../../records/resources/backups.js';
import { roomsNow } from '../../records/deployments/instances.js';
import { addLogin, endLogin, loginsOf, loginsOfDeployment } from '../../records/resources/logins.js';
import {
  askRestore,
  lockResource,
  resourceById,
  type ResourceRow,
  unwantResource,
} from '../../records/resources/resources.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';
import { newPassword } from '../deployments/needs.js';

/** Milliseconds for which a person's login is good. */
export const personLoginMs = 3_600_000;
/** Logins that one person may have on one resource at a time. */
const personLogins = 3;

export interface Place {
  project: ProjectRow;
  environment: string;
  name: string;
}

interface Locked {
  environment: EnvironmentRow;
  resource: ResourceRow;
  place: string;
}

/** Both locked, the environment first, as everyone does. Throws `not_found`. */
async function lockAt(db: Db, { project, environment: of, name }: Place): Promise<Locked> {
  const environment = await openEnvironment(db, project, of);
  const resource = await lockResource(db, environment.id, name);
  if (!resource) throw resourceUnknown(project, of, name);
  return { environment, resource, place: placeOf(project, environment) };
}

export const resourceUnknown = (project: { name: string }, environment: string, name: string): CodedError =>
  new CodedError('not_found', {
    what: `The resource ${name.slice(0, 60)} of ${project.name}/${environment.slice(0, 60)}`,
    hint: 'It is made with the first deployment of a release that declares it; `tsunagi resource list` shows what there is.',
  });

function needReady({ resource, place }: Locked): void {
  if (resource.state !== 'ready')
    throw new CodedError('resource_not_ready', { name: resource.name, environment: place, state: resource.state });
}

function needDatabase({ resource }: Locked): void {
  if (resource.kind !== 'postgres') throw new CodedError('resource_no_database', { name: resource.name });
}

function needOwn({ resource }: Locked): void {
  if (resource.place === 'elsewhere') throw new CodedError('resource_elsewhere');
}

/** The release that is live in an environment and declares the resource, or null. */
export async function userOf(
  db: Db,
  environment: Pick<EnvironmentRow, 'live_id' | 'serving_id'>,
  name: string,
): Promise<ReleaseRow | null> {
  for (const id of [environment.serving_id, environment.live_id]) {
    const deployment = id ? await deploymentById(db, id) : null;
    const release = deployment && (await releaseById(db, deployment.release_id));
    if (release && Object.hasOwn(release.plan.resources, name)) return release;
  }
  return null;
}

/** Opens a login for a person. Gives its id; it is good when its server knows it. */
export async function openLogin(
  context: Context,
  db: Db,
  at: Place,
  actor: string,
): Promise<{ id: string; password: string; until: Date }> {
  const locked = await lockAt(db, at);
  needDatabase(locked);
  needReady(locked);
  needOwn(locked);
  const { resource, place } = locked;
  const own = (await loginsOf(db, resource.id)).filter((one) => one.person === actor && one.state !== 'ending');
  if (own.length >= personLogins) throw new CodedError('logins_enough', { count: personLogins });
  const password = newPassword();
  const until = new Date(context.now() + personLoginMs);
  const fresh = newId();
  const id = await addLogin(db, {
    id: fresh,
    resource: resource.id,
    deployment: null,
    usedBy: 'person',
    turn: 0,
    person: actor,
    sealed: context.keys.encrypt(password, sealedPlace('logins', fresh)),
    expires: until,
  });
  await recordEvents(db, {
    type: 'login.opened',
    project: at.project.id,
    subject: place,
    actor,
    data: { resource: resource.name, until: until.toISOString() },
  });
  return { id: id as string, password, until };
}

/** Ends a person's login before its time. */
export async function closeLogin(db: Db, at: Place, id: string, actor: string): Promise<void> {
  const { resource, place } = await lockAt(db, at);
  const login = (await loginsOf(db, resource.id)).find((one) => one.id === id && one.used_by === 'person');
  if (!login)
    throw new CodedError('not_found', { what: 'This login', hint: 'It has ended already, or is none of a person’s.' });
  await endLogin(db, id);
  await recordEvents(db, {
    type: 'login.closed',
    project: at.project.id,
    subject: place,
    actor,
    data: { resource: resource.name, of: login.person },
  });
}

/**
 * Gives the programs of what is live new logins: each is started anew with them, one beside the other, and then the old ones end. What
 * is warm ends at once: it has older ones.
 */
export async function rotate(context: Context, db: Db, at: Place, actor: string): Promise<void> {
  const locked = await lockAt(db, at);
  needDatabase(locked);
  needReady(locked);
  needOwn(locked);
  const { environment, resource, place } = locked;
  if ((await movingDeployments(db, environment.id)).length)
    throw new CodedError('deployment_moves', { environment: place });
  const live = environment.live_id ? await deploymentById(db, environment.live_id) : null;
  const release = live && (await releaseById(db, live.release_id));
  if (!live || !release || !Object.hasOwn(release.plan.resources, resource.name))
    throw new CodedError('resource_unused', { name: resource.name, environment: place });
  const turns = (await loginsOfDeployment(db, live.id)).filter((one) => one.used_by === 'parts').map((one) => one.turn);
  const id = newId();
  await addLogin(db, {
    id,
    resource: resource.id,
    deployment: live.id,
    usedBy: 'parts',
    turn: Math.max(live.turn, ...turns) + 1,
    person: null,
    sealed: context.keys.encrypt(newPassword(), sealedPlace('logins', id)),
    expires: null,
  });
  await coolAll(db, environment.id);
  await recordEvents(db, {
    type: 'resource.rotated',
    project: at.project.id,
    subject: place,
    actor,
    data: { resource: resource.name },
  });
}

export async function backUp(db: Db, at: Place, actor: string): Promise<BackupRow> {
  const locked = await lockAt(db, at);
  needReady(locked);
  needOwn(locked);
  const { resource, place } = locked;
  const row = await addBackup(db, resource.id, actor, false);
  await recordEvents(db, {
    type: 'backup.asked',
    project: at.project.id,
    subject: place,
    actor,
    data: { resource: resource.name, backup: row.number },
  });
  return row;
}

/** Puts a backup in the place of what is there, which is backed up first, unless somebody says otherwise. */
export async function restore(
  context: Context,
  db: Db,
  at: Place,
  from: { environment: string; resource: string; backup: number; first: boolean; on: string | null },
  actor: string,
): Promise<ResourceRow> {
  const locked = await lockAt(db, at);
  needReady(locked);
  needOwn(locked);
  const { environment, resource, place } = locked;
  if ((await movingDeployments(db, environment.id)).length)
    throw new CodedError('deployment_moves', { environment: place });
  const backup = await backupAt(db, at.project, from);
  if (backup.state !== 'kept') throw new CodedError('backup_not_kept', { number: backup.number, state: backup.state });
  if (!backup.digest || (await context.blobs.size(backup.digest)) === null)
    throw new CodedError('backup_not_kept', { number: backup.number, state: 'not stored any more' });
  if (resource.restore_id) throw new CodedError('restore_waits', { name: resource.name });
  const of = await resourceById(db, backup.resource_id);
  if (of?.kind !== resource.kind)
    throw new CodedError('backup_kind', {
      number: backup.number,
      kind: of?.kind,
      name: resource.name,
      own: resource.kind,
    });
  const on = from.on === null ? null : await agentOn(db, resource, from.on);
  const first = from.first ? await addBackup(db, resource.id, actor, false) : null;
  await askRestore(db, resource.id, backup.id, first?.id ?? null, on);
  await recordEvents(db, {
    type: 'restore.asked',
    project: at.project.id,
    subject: place,
    actor,
    data: {
      resource: resource.name,
      from: `${at.project.name}/${from.environment} ${from.resource} ${from.backup}`,
      of: backup.of_at?.toISOString() ?? null,
      on: from.on,
    },
  });
  return resource;
}

/** The agent that is to have a volume. Throws `resource_no_volume`, or `volume_agent` where it can't. */
async function agentOn(db: Db, resource: ResourceRow, name: string): Promise<string> {
  if (resource.kind !== 'volume') throw new CodedError('resource_no_volume', { name: resource.name });
  const found = (await roomsNow(db)).find((one) => one.name === name);
  if (!found) throw new CodedError('volume_agent', { name: name.slice(0, 80) });
  return found.id;
}

export async function backupAt(
  db: Db,
  project: ProjectRow,
  { environment: of, resource: name, backup: number }: { environment: string; resource: string; backup: number },
): Promise<BackupRow> {
  const environment = await findEnvironment(db, project.id, of);
  const backup = environment && (await findBackup(db, environment.id, name, number));
  if (!backup) throw new CodedError('backup_unknown', { name, environment: `${project.name}/${of}`, number });
  return backup;
}

/** Nobody can restore it any more. One that is being restored stays. */
export async function removeBackup(
  db: Db,
  project: ProjectRow,
  of: { environment: string; resource: string; backup: number },
  actor: string,
): Promise<void> {
  const row = await backupAt(db, project, of);
  if (await isRestored(db, row.id)) throw new CodedError('restore_waits', { name: of.resource });
  await removeBackups(db, [row.id]);
  await recordEvents(db, {
    type: 'backup.removed',
    project: project.id,
    subject: `${project.name}/${of.environment}`,
    actor,
    data: { resource: of.resource, backup: of.backup },
  });
}

/** Removes it, with all that is in it. Its backups stay, unless they shall go too. */
export async function removeResource(db: Db, at: Place, backups: boolean, actor: string): Promise<void> {
  const { environment, resource, place } = await lockAt(db, at);
  const user = await userOf(db, environment, resource.name);
  if (user)
    throw new CodedError('resource_needed', { name: resource.name, environment: place, release: `r${user.number}` });
  await unwantResource(db, resource.id);
  if (backups) await removeBackupsOf(db, resource.id);
  await recordEvents(db, {
    type: 'resource.removal-asked',
    project: at.project.id,
    subject: place,
    actor,
    data: { resource: resource.name, backups: backups ? 'removed' : 'kept' },
  });
}
