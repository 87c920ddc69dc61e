import type { InferAttributes } from 'sequelize';
import type { Release } from '../models/deployments/releases.js';
import { Op } from 'sequelize';
import type { EvidenceKind } from '../../core/states.js';
import { json, type Db, notify, queryOne, query, tables } from '../database.js';
import { newId } from '../ids.js';

const columns = [
  'id',
  'project_id',
  'number',
  'digest',
  'commit',
  'branch',
  'pull_request',
  'run_id',
  'line',
  'parts',
  'plan',
  'created_at',
  'gone_at',
  'migrations',
  'imported',
] as const satisfies readonly (keyof InferAttributes<Release>)[];

export type ReleaseRow = Pick<InferAttributes<Release>, (typeof columns)[number]>;

export async function addRelease(
  db: Db,
  release: Omit<ReleaseRow, 'id' | 'created_at' | 'gone_at'>,
): Promise<ReleaseRow> {
  const row = await queryOne<ReleaseRow>(
    db,
    `insert into releases (id, project_id, number, digest, commit, branch, pull_request, run_id, line, parts, plan, migrations, imported)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) returning ${columns.join(', ')}`,
    [
      newId(),
      release.project_id,
      release.number,
      release.digest,
      release.commit,
      release.branch,
      release.pull_request,
      release.run_id,
      release.line,
      json(release.parts),
      json(release.plan),
      release.migrations === null ? null : json(release.migrations),
      release.imported === null ? null : json(release.imported),
    ],
  );
  const { Run, in: within } = tables(db);
  if (release.run_id !== null) await Run.update({ released: true }, { where: { id: release.run_id }, ...within });
  return row as ReleaseRow;
}

export async function releaseById(db: Db, id: string): Promise<ReleaseRow> {
  const { Release, in: within } = tables(db);
  const row = await Release.findByPk(id, { attributes: [...columns], raw: true, ...within });
  if (!row) throw new Error(`no release ${id}`);
  return row;
}

export async function findRelease(db: Db, project: string, number: number): Promise<ReleaseRow | null> {
  const { Release, in: within } = tables(db);
  return Release.findOne({ attributes: [...columns], where: { project_id: project, number }, raw: true, ...within });
}

export async function releaseOfRun(db: Db, run: string): Promise<ReleaseRow | null> {
  const { Release, in: within } = tables(db);
  return Release.findOne({ attributes: [...columns], where: { run_id: run }, raw: true, ...within });
}

/** The one that was made elsewhere of these bytes. */
export async function importedRelease(db: Db, project: string, digest: string): Promise<ReleaseRow | null> {
  const { Release, in: within } = tables(db);
  const where = { project_id: project, digest, imported: { [Op.ne]: null } };
  return Release.findOne({ attributes: [...columns], where, raw: true, ...within });
}

/** The newest release of each of these commits. Which commit is newer is for their history to say. */
export const releasesOfCommits = (
  db: Db,
  project: string,
  commits: readonly string[],
  branch: string,
): Promise<{ number: number; commit: string }[]> =>
  query(
    db,
    `select max(number) as number, commit from releases
     where project_id = $1
       and branch = $3
       and commit = any($2::text[])
     group by commit`,
    [project, commits, branch],
  );

/**
 * The release of a pull request's newest commit that has one: of its head, else of the commit that was run first after all others.
 * Another run of an older commit makes a release with a higher number, and is not newer for it.
 */
export const newestOfPullRequest = (
  db: Db,
  project: string,
  pull: number,
  /** Made of what its author wrote while they might not write there. */
  outside: boolean,
): Promise<{ number: number; commit: string } | null> =>
  queryOne(
    db,
    `select r.number, r.commit from releases r
       left join pull_requests p on p.project_id = r.project_id and p.number = r.pull_request
     where r.project_id = $1
       and r.pull_request = $2 and (r.line <> 'own') = $3
     order by r.commit = p.head desc nulls last,
       (select min(f.number) from releases f where f.project_id = $1 and f.pull_request = $2 and f.commit = r.commit) desc,
       r.number desc limit 1`,
    [project, pull, outside],
  );

export interface EvidenceRow {
  kind: EvidenceKind;
  name: string;
  source: string;
  digest: string;
  detail: Record<string, unknown>;
  at: Date;
}

/** Records evidence; told twice it stays as it was first. Gives it where it is new. */
export async function addEvidence(
  db: Db,
  release: { id: string; digest: string },
  evidence: Omit<EvidenceRow, 'at' | 'digest'>,
): Promise<EvidenceRow | null> {
  const row = await queryOne<EvidenceRow>(
    db,
    `insert into evidence (id, release_id, digest, kind, name, source, detail)
       values ($1, $2, $3, $4, $5, $6, $7)
     on conflict do nothing returning kind, name, source, digest, detail, at`,
    [newId(), release.id, release.digest, evidence.kind, evidence.name, evidence.source, json(evidence.detail)],
  );
  await notify(db, 'environments');
  return row;
}

export async function evidenceOf(db: Db, release: string): Promise<EvidenceRow[]> {
  const { Evidence, in: within } = tables(db);
  return Evidence.findAll({
    attributes: ['kind', 'name', 'source', 'digest', 'detail', 'at'],
    where: { release_id: release },
    order: ['at', 'name'],
    raw: true,
    ...within,
  });
}

/** Releases of a project below a number (null: all), the newest first. */
export const listReleases = (db: Db, project: string, below: number | null, limit: number): Promise<ReleaseRow[]> => {
  const { Release, in: within } = tables(db);
  return Release.findAll({
    where: { project_id: project, ...(below === null ? {} : { number: { [Op.lt]: below } }) },
    order: [['number', 'desc']],
    limit,
    raw: true,
    ...within,
  });
};
