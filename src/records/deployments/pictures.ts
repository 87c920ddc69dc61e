/** Pictures of what deployments show: one a deployment, worked on under a fence. */
import type { InferAttributes } from 'sequelize';
import type { Issue } from '../../core/errors/errors.js';
import type { Page } from '../../core/pictures/pages.js';
import { type Db, json, notify, query, queryOne } from '../database.js';
import { takeHeld } from '../held.js';
import { newId } from '../ids.js';
import type { Picture, StoredPicture } from '../models/deployments/pictures.js';

export type PictureRow = InferAttributes<Picture>;
export type StoredRow = InferAttributes<StoredPicture>;
type Held = Pick<PictureRow, 'id' | 'fence'>;

const columns =
  'id, environment_id, deployment_id, beside_id, state, issue, tries, fence::text as fence, due_at, lease_until, attempt_id, output, pages, share, created_at, taken_at';
const open = `state in ('asked', 'taking')`;

/** Asks for one of a deployment, anew where it has one already; one that is on its way is left. Those of before it look again. */
export async function askForPicture(db: Db, environment: string, deployment: string): Promise<void> {
  await query(
    db,
    `insert into pictures as p (id, environment_id, deployment_id) values ($1, $2, $3)
     on conflict (deployment_id) do update set state = 'asked', issue = null, tries = 0, attempt_id = null, output = null, due_at = now()
     where p.state not in ('asked', 'taking')`,
    [newId(), environment, deployment],
  );
  await lookAtPictures(db, environment);
}

/** What its pictures wait for has changed. */
export async function lookAtPictures(db: Db, environment: string): Promise<void> {
  const rows = await query(db, `update pictures set due_at = now() where environment_id = $1 and ${open} returning 1`, [
    environment,
  ]);
  if (rows.length) await notify(db, 'pictures');
}

/** An agent has come that may take them. */
export async function lookAtAskedPictures(db: Db): Promise<void> {
  const rows = await query(db, `update pictures set due_at = now() where state = 'asked' returning 1`);
  if (rows.length) await notify(db, 'pictures');
}

/** What takes it has ended; `output`: what it has handed over. */
export async function wakePicture(db: Db, attempt: string, output: string | null): Promise<void> {
  await query(
    db,
    `update pictures set due_at = now(), output = coalesce($2, output) where attempt_id = $1 and state = 'taking'`,
    [attempt, output],
  );
  await notify(db, 'pictures');
}

export const takePicture = (db: Db, leaseMs: number): Promise<PictureRow | null> =>
  takeHeld<PictureRow>(db, 'pictures', columns, leaseMs);

export interface PictureChange {
  state?: PictureRow['state'];
  issue?: Issue | null;
  tries?: number;
  attempt?: string | null;
  beside?: string | null;
  pages?: Page[];
  share?: number | null;
}

/** Records what came of it, and lets it go; false when it is somebody else's by now. */
export const settlePicture = async (
  db: Db,
  { id, fence }: Held,
  { state, issue, tries, attempt, beside, pages, share }: PictureChange,
): Promise<boolean> =>
  (await queryOne(
    db,
    `update pictures set lease_until = null, state = coalesce($3, state),
       issue = case when $4 then $5::jsonb else issue end, tries = coalesce($6, tries),
       attempt_id = case when $7 then $8::uuid else attempt_id end, beside_id = case when $9 then $10::uuid else beside_id end,
       pages = coalesce($11::jsonb, pages), share = case when $11::jsonb is null then share else $12::float8 end,
       output = case when coalesce($3, state) = 'taking' then output end,
       taken_at = case when $3 = 'taken' then now() else taken_at end
     where id = $1 and fence = $2::bigint returning 1 as ok`,
    [
      id,
      fence,
      state ?? null,
      issue !== undefined,
      issue ? json(issue) : null,
      tries ?? null,
      attempt !== undefined,
      attempt ?? null,
      beside !== undefined,
      beside ?? null,
      pages ? json(pages) : null,
      share ?? null,
    ],
  )) !== null;

/** The bytes of its pages, in the place of those of before. */
export async function storePictures(
  db: Db,
  picture: string,
  files: readonly Omit<StoredRow, 'picture_id'>[],
): Promise<void> {
  await query(db, 'delete from picture_files where picture_id = $1', [picture]);
  await query(
    db,
    `insert into picture_files (picture_id, page, file, digest, bytes, width, height)
     select $1, f.page, f.file, f.digest, f.bytes, f.width, f.height
     from jsonb_to_recordset($2::jsonb) as f(page int, file text, digest text, bytes int, width int, height int)`,
    [picture, json(files)],
  );
}

export const pictureOfAttempt = (db: Db, attempt: string): Promise<PictureRow | null> =>
  queryOne(db, `select ${columns} from pictures where attempt_id = $1`, [attempt]);

export interface ShownPicture extends PictureRow {
  /** Numbers of the deployment and its release, and where it stands beside. */
  deployment: number;
  release: number;
  beside: { environment: string; deployment: number; release: number } | null;
  files: Omit<StoredRow, 'picture_id'>[];
}

/** Of an environment: the newest, and before it the newest that was taken. */
export const picturesOf = (db: Db, environment: string): Promise<ShownPicture[]> =>
  query(
    db,
    `select ${columns.replace(/(^|, )(\w+)/g, '$1p.$2')}, d.number as deployment, l.number as release,
       case when b.id is not null then jsonb_build_object('environment', be.name, 'deployment', b.number, 'release', bl.number) end as beside,
       coalesce((
         select jsonb_agg(jsonb_build_object('page', f.page, 'file', f.file, 'digest', f.digest, 'bytes', f.bytes, 'width', f.width, 'height', f.height) order by f.page, f.file)
         from picture_files f where f.picture_id = p.id), '[]') as files
     from pictures p join deployments d on d.id = p.deployment_id join releases l on l.id = d.release_id
       left join deployments b on b.id = p.beside_id left join environments be on be.id = b.environment_id left join releases bl on bl.id = b.release_id
     where p.environment_id = $1 and (p.id = (select id from pictures where environment_id = $1 order by id desc limit 1)
       or p.id = (select id from pictures where environment_id = $1 and state = 'taken' order by id desc limit 1))
     order by p.id desc`,
    [environment],
  );

export const storedPicture = (
  db: Db,
  of: { picture: string; page: number; file: string },
): Promise<(StoredRow & { environment_id: string }) | null> =>
  queryOne(
    db,
    `select f.*, p.environment_id from picture_files f join pictures p on p.id = f.picture_id
     where f.picture_id = $1 and f.page = $2 and f.file = $3`,
    [of.picture, of.page, of.file],
  );

/** Lets go of the bytes of pictures that are older than a week and not the newest of their environment; what they came to stays. */
export const dropOldPictures = (db: Db): Promise<unknown> =>
  query(
    db,
    `delete from picture_files f using pictures p
     where p.id = f.picture_id and p.taken_at < now() - interval '7 days'
       and exists (select 1 from pictures n where n.environment_id = p.environment_id and n.state = 'taken' and n.id > p.id)`,
  );
