/** The rules of environments that count, and freezes of owners. */
import { makeEnvironmentsDue } from './environments.js';
import type { Rules } from '../../core/rules/in-force.js';
import type { Freeze } from '../models/deployments/environments.js';
import { type Db, json, notify, query, tables } from '../database.js';

/** The first rules of an environment count as they are declared. */
export const beginRules = (db: Db, project: string, name: string, rules: Rules): Promise<unknown> =>
  query(db, 'update environments set rules = $3 where project_id = $1 and name = $2 and rules is null', [
    project,
    name,
    json(rules),
  ]);

export async function setRules(db: Db, id: string, rules: Rules): Promise<void> {
  const { Environment, in: within } = tables(db);
  await Environment.update({ rules }, { where: { id }, ...within });
}

export async function setFreeze(db: Db, id: string, freeze: Freeze | null): Promise<void> {
  const { Environment, in: within } = tables(db);
  await Environment.update({ frozen_by: freeze }, { where: { id }, ...within });
}

/** Standing environments of a project in which what was live in `after` for a while in good health is taken. */
export const waitForHealth = (
  db: Db,
  project: string,
  after: string,
): Promise<{ id: string; healthy: number; release_id: string | null }[]> =>
  query(
    db,
    `select e.id, (e.rules->>'healthy')::float8 as healthy, d.release_id
     from environments e left join deployments d on d.id = e.live_id
     where e.project_id = $1 and e.kind = 'standing' and e.state not in ('closing', 'closed')
       and e.rules->>'after' = $2 and (e.rules->>'healthy')::float8 > 0`,
    [project, after],
  );

/** Those that wait for the health of this one look again. No other lock is held while they are locked, in their order. */
export async function dueAfter(db: Db, project: string, after: string): Promise<void> {
  const count = await makeEnvironmentsDue(
    db,
    `project_id = $1 and kind = 'standing' and state not in ('closing', 'closed')
       and rules->>'after' = $2 and (rules->>'healthy')::float8 > 0`,
    [project, after],
  );
  if (count) await notify(db, 'environments');
}
