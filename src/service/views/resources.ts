/** Resources as people see them. */
import { userOf } from '../../engine/resources/acts.js';
import type { Db } from '../../records/database.js';
import { deploymentById } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { type BackupRow, backupsOf } from '../../records/resources/backups.js';
import { type LoginRow, loginsOf } from '../../records/resources/logins.js';
import { leftResources, type ResourceRow, resourcesOf } from '../../records/resources/resources.js';
import type { BackupView, LoginView, Resource, ResourceDetail } from '../../wire/environments/resources.js';
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
  return {
    project: project.name,
    environment: environment.name,
    name: row.name,
    kind: row.kind,
    place: row.place,
    state: row.state,
    since: row.state_since.toISOString(),
    issue: said(row.issue),
    restoring: row.restore_id !== null,
    used: row.state !== 'removed' && (await userOf(db, environment, row.name)) !== null,
    bytes: row.bytes === null ? null : Number(row.bytes),
    connections: row.connections,
    seenAt: iso(row.looked_at),
    backups: { kept: kept.length, last: iso(kept[0]?.of_at ?? null) },
    createdAt: row.created_at.toISOString(),
  };
}

export async function resourceDetail(db: Db, at: At, row: ResourceRow): Promise<ResourceDetail> {
  const [backups, logins] = [await backupsOf(db, row.id), await loginsOf(db, row.id)];
  const { extensions, backup } = row.plan;
  return {
    ...(await resourceView(db, at, row, backups)),
    plan: { extensions, backup },
    logins: await Promise.all(logins.map((one) => loginView(db, one))),
    backupList: backups.map(backupView),
    nextBackup: iso(row.next_backup_at),
  };
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
    row.tried && row.tried_at ? { ...row.tried, at: row.tried_at.toISOString(), issue: said(row.tried.issue) } : null,
});
