/** Deployments of several projects that go together or not at all. */
import type { InferAttributes } from 'sequelize';
import type { Issue } from '../../core/errors/errors.js';
import type { JointState } from '../../core/states.js';
import { type Db, json, notify, query, queryOne, tables } from '../database.js';
import { newId } from '../ids.js';
import type { Joint, JointMemberRow } from '../models/deployments/joints.js';

export type JointRow = InferAttributes<Joint>;

/** Its members are its own from now on. */
export async function addJoint(
  db: Db,
  { environment, actor, members }: { environment: string; actor: string; members: JointMemberRow[] },
): Promise<JointRow> {
  const row = (await queryOne<JointRow>(
    db,
    'insert into joints (id, environment, actor, members) values ($1, $2, $3, $4) returning *',
    [newId(), environment, actor, json(members)],
  )) as JointRow;
  await query(db, 'update deployments set joint_id = $1, joint_number = $2 where id = any($3::uuid[])', [
    row.id,
    row.number,
    members.map((one) => one.deploymentId),
  ]);
  await notify(db, 'joints');
  return row;
}

export async function jointById(db: Db, id: string): Promise<JointRow | null> {
  const { Joint, in: within } = tables(db);
  return Joint.findByPk(id, { raw: true, ...within });
}

export async function findJoint(db: Db, number: number): Promise<JointRow | null> {
  const { Joint, in: within } = tables(db);
  return Joint.findOne({ where: { number }, raw: true, ...within });
}

/** After the environments and deployments of its members. */
export async function lockJoint(db: Db, id: string): Promise<JointRow | null> {
  const { Joint, in: within } = tables(db);
  return Joint.findByPk(id, { lock: true, raw: true, ...within });
}

/** `why`: none went, or all went back; `stayed`: projects that did not. */
export const setJointState = (
  db: Db,
  id: string,
  { state, why = null, stayed = [] }: { state: JointState; why?: Issue | null; stayed?: readonly string[] },
): Promise<unknown> =>
  query(
    db,
    `update joints set state = $2, state_since = now(), issue = coalesce($3::jsonb, issue), stayed = $4 where id = $1`,
    [id, state, why === null ? null : json(why), stayed],
  );

/** It is to go back; who has said so first is kept. */
export async function askBack(db: Db, id: string, why: Issue, by: string): Promise<void> {
  await query(db, 'update joints set back = $2, back_by = $3, due_at = now() where id = $1 and back is null', [
    id,
    json(why),
    by,
  ]);
  await notify(db, 'joints');
}
