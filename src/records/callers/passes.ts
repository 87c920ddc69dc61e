/** Who may look at reviews. */
import type { InferAttributes } from 'sequelize';
import { type Db, query, queryOne } from '../database.js';
import { newId } from '../ids.js';
import type { ReviewLink } from '../models/callers/links.js';

export type LinkRow = Omit<InferAttributes<ReviewLink>, 'hash'>;

const columns = 'id, environment_id, actor, created_at, expires_at, removed_at, used_at';

/** Those of an environment that are good, the newest first. */
export const linksOf = (db: Db, environment: string): Promise<LinkRow[]> =>
  query(
    db,
    `select ${columns} from links where environment_id = $1 and removed_at is null and expires_at > now() order by id desc`,
    [environment],
  );

export const addLink = async (
  db: Db,
  link: { environment: string; hash: Buffer; actor: string; expires: Date },
): Promise<LinkRow> =>
  (await queryOne<LinkRow>(
    db,
    `insert into links (id, environment_id, hash, actor, expires_at) values ($1, $2, $3, $4, $5) returning ${columns}`,
    [newId(), link.environment, link.hash, link.actor, link.expires],
  )) as LinkRow;

/** Takes them back, with all that came by them: that one, or (`null`) all of the environment. Gives how many were good. */
export const removeLinks = async (db: Db, environment: string, id: string | null): Promise<number> =>
  (
    await query(
      db,
      `update links set removed_at = now() where environment_id = $1 and ($2::uuid is null or id = $2) and removed_at is null returning 1`,
      [environment, id],
    )
  ).length;

/** Somebody has come by a link; null where it is none, or none any more. */
export const takeLink = (db: Db, hash: Buffer, environment: string): Promise<LinkRow | null> =>
  queryOne(
    db,
    `update links set used_at = now() where hash = $1 and environment_id = $2 and removed_at is null and expires_at > now() returning ${columns}`,
    [hash, environment],
  );

/** Browsers that one session, or one link, lets in at a time: the newest. */
const mostPasses = 1_000;

/** Lets a browser in. False when its code was used before. */
export async function addPass(
  db: Db,
  pass: {
    hash: Buffer;
    environment: string;
    session: string | null;
    link: string | null;
    code: Buffer | null;
    expires: Date;
  },
): Promise<boolean> {
  const added = await queryOne(
    db,
    `insert into passes (hash, environment_id, session_id, link_id, code, expires_at) values ($1, $2, $3, $4, $5, $6)
     on conflict (code) do nothing returning 1 as ok`,
    [pass.hash, pass.environment, pass.session, pass.link, pass.code, pass.expires],
  );
  // Whoever has a link may come by it as often as they like.
  await query(
    db,
    `delete from passes where hash in (
       select hash from passes where environment_id = $1 and (link_id = $2 or session_id = $3) order by created_at desc offset $4)`,
    [pass.environment, pass.link, pass.session, mostPasses],
  );
  return added !== null;
}

/** What a pass was made by, where that is good still: a session at the console, or a link; null: it lets nobody in. */
export const goodPass = (db: Db, hash: Buffer, environment: string): Promise<{ by: 'session' | 'link' } | null> =>
  queryOne(
    db,
    `select case when x.link_id is null then 'session' else 'link' end as by
     from passes x
     where x.hash = $1 and x.environment_id = $2 and x.expires_at > now() and (
       exists (select 1 from links l where l.id = x.link_id and l.removed_at is null and l.expires_at > now())
       or exists (
         select 1 from sessions s left join tokens t on t.id = s.token_id
         where s.id = x.session_id and s.expires_at > now()
           and (s.token_id is null or (t.removed_at is null and (t.expires_at is null or t.expires_at > now())))))`,
    [hash, environment],
  );

/** With a review goes what lets people in. */
export async function removePasses(db: Db, environment: string): Promise<void> {
  await query(db, 'delete from passes where environment_id = $1', [environment]);
  await removeLinks(db, environment, null);
}

/** What lets nobody in any more. */
export async function dropOldPasses(db: Db): Promise<void> {
  await query(db, `delete from passes where expires_at < now() - interval '1 day'`);
  await query(
    db,
    `delete from links l where coalesce(removed_at, expires_at) < now() - interval '30 days'
       and not exists (select 1 from passes p where p.link_id = l.id)`,
  );
}
