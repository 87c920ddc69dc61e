/** Traffic that moves in steps. */
import type { InferAttributes } from 'sequelize';
import type { Mirrored } from '../../core/cutover/mirrored.js';
import type { CutoverStep } from '../../core/cutover/steps.js';
import type { CutoverTests } from '../../core/cutover/verdict.js';
import type { Issue } from '../../core/errors/errors.js';
import type { Cutover } from '../models/deployments/cutovers.js';
import { type Db, json, query, queryOne, tables } from '../database.js';

export type CutoverRow = InferAttributes<Cutover>;

export async function cutoverOf(db: Db, deployment: string): Promise<CutoverRow | null> {
  const { Cutover, in: within } = tables(db);
  return Cutover.findByPk(deployment, { raw: true, ...within });
}

/** Whoever changes one locks its deployment before. */
export async function lockCutover(db: Db, deployment: string): Promise<CutoverRow | null> {
  const { Cutover, in: within } = tables(db);
  return Cutover.findByPk(deployment, { lock: true, raw: true, ...within });
}

/** The next step; the first one begins it. What was asked for in the step before is over. Gives it as it is then. */
export async function enterStep(
  db: Db,
  {
    deployment,
    before,
    step,
    watchedMs = null,
  }: {
    deployment: string;
    before: string | null;
    step: CutoverStep;
    watchedMs?: number | null;
  },
): Promise<CutoverRow> {
  return (await queryOne<CutoverRow>(
    db,
    `insert into cutovers as c (deployment_id, before_id, step, watched_until)
       values ($1, $2, $3, now() + $4::float8 * interval '1 ms')
     on conflict (deployment_id) do update set step = excluded.step, stage = c.stage + 1, since = now(), ordered = null,
       ordered_by = null, waits = null, watched_until = excluded.watched_until
     returning *`,
    [deployment, before, json(step), watchedMs],
  )) as CutoverRow;
}

export async function orderCutover(
  db: Db,
  deployment: string,
  order: NonNullable<CutoverRow['ordered']>,
  by: string,
): Promise<void> {
  const { Cutover, in: within } = tables(db);
  await Cutover.update({ ordered: order, ordered_by: by }, { where: { deployment_id: deployment }, ...within });
}

export async function setWaitsOf(db: Db, deployment: string, waits: Issue | null): Promise<void> {
  const { Cutover, in: within } = tables(db);
  await Cutover.update({ waits }, { where: { deployment_id: deployment }, ...within });
}

export async function setTests(
  db: Db,
  deployment: string,
  { tests, worse, mirrored }: { tests: CutoverTests; worse: Issue | null; mirrored: Mirrored | null },
): Promise<void> {
  await query(
    db,
    'update cutovers set tests = $2, worse = coalesce(worse, $3::jsonb), mirrored = $4 where deployment_id = $1',
    [deployment, json(tests), worse === null ? null : json(worse), mirrored === null ? null : json(mirrored)],
  );
}

/** The deployment that a host's edges count apart by this number; null: there is none. Nothing is locked. */
export const judgedAt = (
  db: Db,
  host: string,
  number: number,
): Promise<{ id: string; environment_id: string; release: number; beside: number | null; parts: number } | null> =>
  queryOne(
    db,
    `select d.id, d.environment_id, r.number as release,
       (select count(*) from jsonb_object_keys(r.plan->'parts'))::int as parts,
       (select o.number from deployments b join releases o on o.id = b.release_id where b.id = c.before_id) as beside
     from environments e
       join deployments d on d.environment_id = e.id and d.number = $2
       join cutovers c on c.deployment_id = d.id
       join releases r on r.id = d.release_id
     where e.host = $1`,
    [host, number],
  );
