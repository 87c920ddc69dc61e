/** What is kept and what may go: logs and outputs of old runs, bytes of old releases, blobs that nothing names. */
import { type Db, query, queryOne } from '../database.js';

/** Taken for sharing by who is about to use stored bytes again, and alone by who removes some. */
const lock = 7_403_130;
export const holdBlobs = (db: Db): Promise<unknown> => query(db, 'select pg_advisory_xact_lock_shared($1)', [lock]);
export const holdBlobsAlone = (db: Db): Promise<unknown> => query(db, 'select pg_advisory_xact_lock($1)', [lock]);

/**
 * Runs whose logs and outputs may go: ended, not among the newest `keep` of their project, with no release that is kept, and none
 * of their attempts the source of a kept run's task. `only`: this one, if it is among them.
 */
export const runsToTrim = (
  db: Db,
  keep: number,
  limit: number,
  only: string | null = null,
): Promise<{ id: string; number: number; project_id: string }[]> =>
  query(
    db,
    `select r.id, r.number, r.project_id from projects p join runs r on r.project_id = p.id
     where ($3::uuid is null or r.id = $3) and r.trimmed_at is null and r.ended_at is not null and r.number <= p.runs - $1
       and not exists (select 1 from releases l where l.run_id = r.id and l.gone_at is null)
       and not exists (
         select 1 from tasks t join attempts a on a.task_id = t.id join tasks other on other.attempt_id = a.id join runs kept on kept.id = other.run_id
         where t.run_id = r.id and kept.id <> r.id and kept.number > p.runs - $1)
     order by r.id limit $2`,
    [keep, limit, only],
  );

/** Lets go of a run's logs and of the results that its attempts gave; what it came to stays. */
export async function trimRun(db: Db, run: string): Promise<void> {
  const attempts = (
    await query<{ id: string }>(
      db,
      'select a.id from attempts a join tasks t on t.id = a.task_id where t.run_id = $1',
      [run],
    )
  ).map((row) => row.id);
  await query(db, 'delete from results where attempt_id = any($1::uuid[])', [attempts]);
  await query(db, 'delete from log_chunks where stream = any($1::uuid[])', [attempts]);
  // How much was covered stays; which lines of which files does not.
  await query(db, `update coverage set files = '[]' where attempt_id = any($1::uuid[])`, [attempts]);
  await query(db, 'update runs set trimmed_at = now() where id = $1', [run]);
}

/**
 * Releases whose bytes may go: not among the newest `keep`, older than all that is live in standing environments (newer ones may still
 * be promoted; a review that stays on an old release keeps that one alone),
 * not among the `reverts` that were live last in an open environment or that reverts from what is live go back to, and needed by no
 * deployment that is live, moving or warm. `only`: this one, if it is among them.
 */
export const releasesToForget = (
  db: Db,
  keep: number,
  reverts: number,
  limit: number,
  only: string | null = null,
): Promise<{ id: string; number: number; project_id: string }[]> =>
  query(
    db,
    `select l.id, l.number, l.project_id from projects p join releases l on l.project_id = p.id
     where ($5::uuid is null or l.id = $5) and l.gone_at is null and l.number <= p.releases - $1
       and l.number < coalesce((select min(live.number) from environments e join deployments d on d.id in (e.live_id, e.serving_id) join releases live on live.id = d.release_id where e.project_id = p.id and e.kind = 'standing' and e.state <> 'closed'), $3)
       and not exists (select 1 from deployments d join environments e on e.id = d.environment_id where d.release_id = l.id
         and (d.id in (e.live_id, e.serving_id) or d.ended_at is null and d.state not in ('replaced', 'failed', 'reverted') or d.warm_until > now()))
       and not exists (select 1 from (
         select d.release_id, row_number() over (partition by d.environment_id order by d.number desc) as back
         from deployments d join environments e on e.id = d.environment_id where e.project_id = p.id and e.state <> 'closed' and d.live_at is not null) past
         where past.release_id = l.id and past.back <= $4)
       and not exists (
         with recursive way as (
           select d.back_id, d.release_id, 0 as step from environments e join deployments d on d.id = e.live_id
           where e.project_id = p.id and e.state <> 'closed'
           union all
           select d.back_id, d.release_id, way.step + 1 from way join deployments d on d.id = way.back_id where way.step < $4)
         select 1 from way where way.release_id = l.id)
     order by l.id limit $2`,
    [keep, limit, 2_147_483_647, reverts, only],
  );

/**
 * A deployment is about to be made of it: until the end of this transaction its bytes stay, and after that the deployment keeps them.
 * False: they are gone.
 */
export const keepRelease = async (db: Db, release: string): Promise<boolean> =>
  (await queryOne(db, 'select gone_at from releases where id = $1 and gone_at is null for key share', [release])) !==
  null;

/** Waits for transactions that are about to make a deployment of it (`keepRelease`), and keeps others from that until its bytes are gone. */
export const lockRelease = (db: Db, release: string): Promise<unknown> =>
  query(db, 'select 1 from releases where id = $1 for update', [release]);

/** Removes its bytes. For a transaction that has it locked, and has asked after that whether they may go. */
export async function forgetRelease(db: Db, release: string): Promise<void> {
  await query(db, 'delete from release_blobs where release_id = $1', [release]);
  await query(db, 'update releases set gone_at = now() where id = $1', [release]);
}

export const nameReleaseBlobs = (db: Db, release: string, digests: readonly string[]): Promise<unknown> =>
  query(
    db,
    `insert into release_blobs (release_id, digest) select $1, d
     from unnest($2::text[]) d
     on conflict do nothing`,
    [release, digests],
  );

/** Those of the digests that nothing kept names. */
export async function unnamedBlobs(db: Db, digests: readonly string[]): Promise<string[]> {
  const rows = await query<{ digest: string }>(
    db,
    `select d as digest from unnest($1::text[]) d
     where not exists (select 1 from backups k where k.digest = d and k.state = 'kept')
       and not exists (select 1 from snapshots n where n.digest = d) and not exists (select 1 from snapshots n where n.output = d)
       and not exists (select 1 from picture_files f where f.digest = d) and not exists (select 1 from pictures p where p.output = d)
       and not exists (select 1 from release_blobs b where b.digest = d) and not exists (select 1 from results r where r.output = d)
       and not exists (select 1 from tasks t join runs r on r.id = t.run_id where t.output = d and r.trimmed_at is null)`,
    [digests],
  );
  return rows.map((row) => row.digest);
}
