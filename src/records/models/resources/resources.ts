/** What environments have of their own. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Origin, ResourcePlan } from '../../../core/definition/model.js';
import type { Issue } from '../../../core/errors/errors.js';
import type { DatabaseAccess, ResourceKind, ResourcePlace, ResourceState } from '../../../core/states.js';
import { bigint, bytes, flag, int, json, text, time, uuid } from '../columns.js';

export class Resource extends Model<InferAttributes<Resource>, InferCreationAttributes<Resource>> {
  declare id: string;
  declare environment_id: string;
  declare name: string;
  declare kind: ResourceKind;
  /** As the newest deployment asked for it. */
  declare plan: ResourcePlan;
  declare place: ResourcePlace;
  /** Address and login of a server elsewhere. */
  declare sealed: Buffer | null;
  declare state: CreationOptional<ResourceState>;
  declare state_since: CreationOptional<Date>;
  /** Nobody has removed it. */
  declare wanted: CreationOptional<boolean>;
  declare issue: Issue | null;
  declare tries: CreationOptional<number>;
  declare fence: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare lease_until: Date | null;
  declare bytes: string | null;
  declare connections: number | null;
  declare looked_at: Date | null;
  /** Bytes that a database may hold; null: as much as its server has. */
  declare most: string | null;
  declare access: CreationOptional<DatabaseAccess>;
  /** What its server was told of that. */
  declare told_access: CreationOptional<DatabaseAccess>;
  /** The backup that takes the place of what is there. */
  declare restore_id: string | null;
  declare restore_at: Date | null;
  /** The backup of what is there, which is written first. */
  declare restore_after_id: string | null;
  /** The agent that has its files from the next restore on; null: the one that has them. */
  declare restore_agent_id: string | null;
  /** What its data begins as; null: empty. */
  declare origin: Origin | null;
  /** The snapshot that it waits for, or was made of. */
  declare snapshot_id: string | null;
  /** Why its data began otherwise, or older, than `origin` says. */
  declare origin_issue: Issue | null;
  /** The moment of the data that it began with. */
  declare data_of: Date | null;
  declare next_backup_at: Date | null;
  declare next_try_at: Date | null;
  declare created_at: CreationOptional<Date>;
  declare ready_at: Date | null;
  declare removed_at: Date | null;
}

export const defineResource = (sequelize: Sequelize): typeof Resource =>
  class extends Resource {}.init(
    {
      id: uuid({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      name: text(),
      kind: text(),
      plan: json(),
      place: text(),
      sealed: bytes({ null: true }),
      state: text({ made: true }),
      state_since: time({ made: true }),
      wanted: flag({ made: true }),
      issue: json({ null: true }),
      tries: int({ made: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      lease_until: time({ null: true }),
      bytes: bigint({ null: true }),
      connections: int({ null: true }),
      looked_at: time({ null: true }),
      most: bigint({ null: true }),
      access: text({ made: true }),
      told_access: text({ made: true }),
      restore_id: uuid({ null: true, of: 'backups' }),
      restore_at: time({ null: true }),
      restore_after_id: uuid({ null: true, of: 'backups' }),
      restore_agent_id: uuid({ null: true, of: 'agents' }),
      origin: json({ null: true }),
      snapshot_id: uuid({ null: true, of: 'snapshots' }),
      origin_issue: json({ null: true }),
      data_of: time({ null: true }),
      next_backup_at: time({ null: true }),
      next_try_at: time({ null: true }),
      created_at: time({ made: true }),
      ready_at: time({ null: true }),
      removed_at: time({ null: true }),
    },
    { sequelize, modelName: 'Resource', tableName: 'resources', timestamps: false },
  );
