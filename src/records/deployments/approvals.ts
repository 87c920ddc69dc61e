/** Who has approved which bytes for an environment. */
import type { Approval } from '../../core/rules/rules.js';
import { type Db, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import { makeDue } from '../runs/runs.js';

export interface ApprovalRow extends Approval {
  /** They have written some of what it brings. */
  author: boolean;
}

/**
 * Whether an approval `a` counts no more: taken back by its person, or by a newer release that became live in the environment before
 * after it was given, which is what may be promoted instead. Each is an expression of the statement that it stands in.
 */
export const withdrawn = ({ project, after, number }: { project: string; after: string; number: string }): string =>
  `(a.withdrawn_at is not null or exists (
     select 1 from deployments newer join environments earlier on earlier.id = newer.environment_id
       join releases brought on brought.id = newer.release_id
     where earlier.project_id = ${project} and earlier.name = ${after} and newer.live_at > a.at and brought.number > ${number}))`;

/** Commit of the release that is live in the environment of an approval `a`; '' where none is. */
const liveCommit = `coalesce((
  select l.commit from environments e join deployments d on d.id = e.live_id join releases l on l.id = d.release_id
  where e.id = a.environment_id), '')`;

export interface UnsureApproval {
  id: string;
  release_id: string;
  name: string;
  /** What is live now. */
  against: string;
}

/** Approvals whose author flag was computed while another release was live. Until it is computed again they count as their author's. */
export const unsureApprovals = (db: Db, environment: string): Promise<UnsureApproval[]> =>
  query(
    db,
    `select a.id, a.release_id, p.name, ${liveCommit} as against from approvals a join people p on p.id = a.person_id
     where a.environment_id = $1 and a.withdrawn_at is null and a.against is distinct from ${liveCommit}
     order by a.at desc limit 100`,
    [environment],
  );

/** Sets whether an approval is its author's, as of the release that was live. */
export const setAuthor = (db: Db, id: string, author: boolean, against: string): Promise<unknown> =>
  query(db, 'update approvals set author = $2, against = $3 where id = $1', [id, author, against]);

/** All that were given for a release here, the oldest first. */
export const approvalsOf = (
  db: Db,
  {
    environment,
    release,
    after,
  }: {
    environment: { id: string; project_id: string };
    release: { id: string; number: number };
    after: string | null;
  },
): Promise<ApprovalRow[]> =>
  query(
    db,
    `select a.person_id as person, p.name, a.digest, extract(epoch from a.at)::float8 * 1000 as at,
       p.role in ('releaser', 'owner') as may, a.author or a.against is distinct from ${liveCommit} as author,
       ${withdrawn({ project: '$3', after: '$4', number: '$5' })} as withdrawn
     from approvals a join people p on p.id = a.person_id
     where a.environment_id = $1 and a.release_id = $2
     order by a.at, a.id`,
    [environment.id, release.id, environment.project_id, after, release.number],
  );

/** Gives whether it is a new one: who approves twice has approved. One that counts no more makes room for it first. */
export const addApproval = async (
  db: Db,
  one: {
    environment: { id: string; project_id: string };
    release: { id: string; digest: string; number: number };
    person: string;
    author: boolean;
    /** Commit of the release that was live when `author` was computed; '' for none. */
    against: string;
    after: string | null;
  },
): Promise<boolean> => {
  await query(
    db,
    `update approvals a set withdrawn_at = now()
     where a.environment_id = $1 and a.release_id = $2 and a.person_id = $3 and a.withdrawn_at is null
       and ${withdrawn({ project: '$4', after: '$5', number: '$6' })}`,
    [one.environment.id, one.release.id, one.person, one.environment.project_id, one.after, one.release.number],
  );
  const row = await queryOne(
    db,
    `insert into approvals (id, environment_id, release_id, digest, person_id, author, against)
       values ($1, $2, $3, $4, $5, $6, $7)
     on conflict do nothing returning 1 as ok`,
    [newId(), one.environment.id, one.release.id, one.release.digest, one.person, one.author, one.against],
  );
  return row !== null;
};

/** Environments for which somebody has approved something: what that counts for is another matter when their role is another one. */
export async function wakeApproved(db: Db, person: string): Promise<void> {
  const rows = await query<{ id: string }>(
    db,
    `select id from environments
     where kind = 'standing' and state not in ('closing', 'closed')
       and id in (select environment_id from approvals where person_id = $1 and withdrawn_at is null)
     order by id`,
    [person],
  );
  for (const { id } of rows) await makeDue(db, 'environments', id);
}

/** Gives whether there was one. */
export const withdrawApproval = async (
  db: Db,
  one: { environment: string; release: string; person: string },
): Promise<boolean> =>
  (await queryOne(
    db,
    `update approvals set withdrawn_at = now()
     where environment_id = $1 and release_id = $2 and person_id = $3 and withdrawn_at is null returning 1 as ok`,
    [one.environment, one.release, one.person],
  )) !== null;

/** Who has pushed these commits. */
export const pushersOf = async (db: Db, project: string, commits: readonly string[]): Promise<string[]> =>
  (
    await query<{ actor: string }>(
      db,
      'select distinct actor from runs where project_id = $1 and commit = any($2::text[])',
      [project, commits],
    )
  ).map(({ actor }) => actor);
