import type { ReleasePlan } from '../core/definition/model.js';
import type { PartImage } from '../core/release/image.js';
import { json, type Db, notify } from './database.js';
import { newId } from './ids.js';

export interface ReleaseRow {
  id: string;
  project_id: string;
  number: number;
  digest: string;
  commit: string;
  branch: string | null;
  pull_request: number | null;
  run_id: string;
  /** Trust line of its run. */
  line: string;
  parts: PartImage[];
  plan: ReleasePlan;
  created_at: Date;
  /** Its bytes are not kept any more. */
  gone_at: Date | null;
}

const columns =
  'id, project_id, number, digest, commit, branch, pull_request, run_id, line, parts, plan, created_at, gone_at';

export async function addRelease(
  db: Db,
  release: Omit<ReleaseRow, 'id' | 'created_at' | 'gone_at'>,
): Promise<ReleaseRow> {
  const row = await db.one<ReleaseRow>(
    `insert into releases (id, project_id, number, digest, commit, branch, pull_request, run_id, line, parts, plan)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) returning ${columns}`,
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
    ],
  );
  await db.rows('update runs set released = true where id = $1', [release.run_id]);
  return row as ReleaseRow;
}

export const releaseById = async (db: Db, id: string): Promise<ReleaseRow> => {
  const row = await db.one<ReleaseRow>(`select ${columns} from releases where id = $1`, [id]);
  if (!row) throw new Error(`no release ${id}`);
  return row;
};
export const findRelease = (db: Db, project: string, number: number): Promise<ReleaseRow | null> =>
  db.one(`select ${columns} from releases where project_id = $1 and number = $2`, [project, number]);
export const releaseOfRun = (db: Db, run: string): Promise<ReleaseRow | null> =>
  db.one(`select ${columns} from releases where run_id = $1`, [run]);

/** The newest release of each of these commits. */
export const releasesOfCommits = (
  db: Db,
  project: string,
  commits: readonly string[],
  branch: string,
): Promise<{ number: number; commit: string }[]> =>
  db.rows(
    'select max(number) as number, commit from releases where project_id = $1 and branch = $3 and commit = any($2::text[]) group by commit',
    [project, commits, branch],
  );

export const newestOfPullRequest = (
  db: Db,
  project: string,
  pull: number,
): Promise<{ number: number; commit: string } | null> =>
  db.one(
    'select number, commit from releases where project_id = $1 and pull_request = $2 order by number desc limit 1',
    [project, pull],
  );

export interface EvidenceRow {
  kind: 'task' | 'verification';
  name: string;
  source: string;
  digest: string;
  detail: Record<string, unknown>;
  at: Date;
}

/** Records evidence; told twice it stays as it was first. */
export async function addEvidence(
  db: Db,
  release: { id: string; digest: string },
  evidence: Omit<EvidenceRow, 'at' | 'digest'>,
): Promise<void> {
  await db.rows(
    'insert into evidence (id, release_id, digest, kind, name, source, detail) values ($1, $2, $3, $4, $5, $6, $7) on conflict do nothing',
    [newId(), release.id, release.digest, evidence.kind, evidence.name, evidence.source, json(evidence.detail)],
  );
  await notify(db, 'environments');
}

export const evidenceOf = (db: Db, release: string): Promise<EvidenceRow[]> =>
  db.rows('select kind, name, source, digest, detail, at from evidence where release_id = $1 order by at, name', [
    release,
  ]);
