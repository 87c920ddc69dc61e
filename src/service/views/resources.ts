/** Resources as people see them. */
import { userOf } from '../../engine/resources/acts.js';
import type { Db } from '../../records/database.js';
import { deploymentById } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { type BackupRow, backupsOf } from '../../records/resources/backups.js';
import { type LoginRow, loginsOf } from '../../records/resources/logins.js';
import { type Issue, issue } from '../../core/errors/errors.js';
import { bytesText } from '../../core/sizes.js';
import { volumesInside } from '../../core/definition/model.js';
import { roomsNow } from '../../records/deployments/instances.js';
import { volumesOf } from '../../records/resources/volumes.js';
import { type SnapshotRow, snapshotsOf, usersOfSnapshot } from '../../records/resources/snapshots.js';
import { leftResources, type ResourceRow, resourcesOf } from '../../records/resources/resources.js';
import type {
  BackupView,
  LoginView,
  Resource,
  ResourceDetail,
  SnapshotView,
  VolumeView,
} from '../../wire/environments/resources.js';
import { iso, said } from './basics.js';

interface At {
  project: ProjectRow;
  environment: EnvironmentRow;
}

export async function resourceViews(db: Db, at: At): Promise<Resource[]> {
  const rows = [...(await resourcesOf(db, at.environment.id)), ...(await leftResources(db, at.environment.id))];
  return Promise.all(rows.map((row) => resourceView(db, at, row)));
}

export async function resourceView(
  db: Db,
  { project, environment }: At,
  row: ResourceRow,
  backups?: readonly BackupRow[],
): Promise<Resource> {
  const kept = (backups ?? (await backupsOf(db, row.id))).filter((one) => one.state === 'kept');
  const volume = row.kind === 'volume' ? await volumeView(db, row) : null;
  return {
    project: project.name,
    environment: environment.name,
    name: row.name,
    kind: row.kind,
    place: row.place,
    state: row.state,
    since: row.state_since.toISOString(),
    issue: said(row.issue ?? fullIssue(row)),
    restoring: row.restore_id !== null,
    used: row.state !== 'removed' && (await userOf(db, environment, row.name)) !== null,
    bytes: bytes(row.bytes),
    most: volume?.size ?? bytes(row.most),
    access: row.access,
    connections: row.connections,
    seenAt: iso(row.looked_at),
    origin: row.origin && { copy: row.origin.copy, of: iso(row.data_of), why: said(row.origin_issue) },
    volume: volume?.view ?? null,
    backups: { kept: kept.length, last: iso(kept[0]?.of_at ?? null) },
    createdAt: row.created_at.toISOString(),
  };
}

export async function resourceDetail(db: Db, at: At, row: ResourceRow): Promise<ResourceDetail> {
  const [backups, logins] = [await backupsOf(db, row.id), await loginsOf(db, row.id)];
  const { extensions, backup, size = null } = row.plan;
  return {
    ...(await resourceView(db, at, row, backups)),
    plan: { extensions, backup, size },
    logins: await Promise.all(logins.map((one) => loginView(db, one))),
    backupList: backups.map(backupView),
    nextBackup: iso(row.next_backup_at),
    snapshots: await Promise.all((await snapshotsOf(db, row.id)).map((one) => snapshotView(db, one))),
  };
}

const bytes = (text: string | null): number | null => (text === null ? null : Number(text));

/** Why programs can't write to a database. */
function fullIssue({ access, bytes: held, most, state }: ResourceRow): Issue | null {
  if (access === 'open' || state !== 'ready') return null;
  const facts = { size: bytesText(Number(held ?? 0)), most: bytesText(Number(most ?? 0)) };
  return issue(access === 'shut' ? 'database_shut' : 'database_read_only', facts);
}

async function volumeView(db: Db, { id, name }: ResourceRow): Promise<{ view: VolumeView; size: number | null }> {
  const [rows, rooms] = [await volumesOf(db, id), await roomsNow(db)];
  const now = rows.find((one) => one.state === 'there') ?? rows.find((one) => one.state === 'making');
  const view = {
    agent: now?.agent ?? null,
    alive: now?.alive ?? false,
    hold: now?.hold ?? null,
    path: `${volumesInside}/${name}`,
    left: rows.flatMap(({ state, agent, alive, used }) =>
      state === 'left' ? [{ agent, alive, used: bytes(used) }] : [],
    ),
    agents: rooms.map((one) => one.name),
  };
  return { view, size: bytes(now?.size ?? null) };
}

async function loginView(db: Db, row: LoginRow): Promise<LoginView> {
  const deployment = row.deployment_id ? await deploymentById(db, row.deployment_id) : null;
  return {
    id: row.id,
    usedBy: row.used_by,
    who: deployment ? `d${deployment.number}` : (row.person ?? ''),
    state: row.state,
    createdAt: row.created_at.toISOString(),
    until: iso(row.expires_at),
  };
}

export const backupView = (row: BackupRow): BackupView => ({
  number: row.number,
  by: row.actor,
  planned: row.planned,
  state: row.state,
  issue: said(row.issue),
  bytes: row.bytes === null ? null : Number(row.bytes),
  of: iso(row.of_at),
  createdAt: row.created_at.toISOString(),
  tried:
    row.tried && row.tried_at
      ? { ...row.tried, files: row.tried.files ?? null, at: row.tried_at.toISOString(), issue: said(row.tried.issue) }
      : null,
});

export async function snapshotView(db: Db, row: SnapshotRow): Promise<SnapshotView> {
  const deployment = row.deployment_id ? await deploymentById(db, row.deployment_id) : null;
  return {
    id: row.id,
    state: row.state,
    by: row.actor,
    issue: said(row.issue),
    of: iso(row.of_at),
    bytes: bytes(row.bytes),
    scrub: row.scrub && {
      run: row.scrub.run,
      deployment: deployment ? `d${deployment.number}` : '',
      attempt: row.attempt_id,
    },
    reviews: await usersOfSnapshot(db, row.id),
    createdAt: row.created_at.toISOString(),
  };
}
