/** Copies of resources, kept as stored bytes. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { BackupTried } from '../../../core/advance/backups.js';
import type { Issue } from '../../../core/errors/errors.js';
import type { BackupState } from '../../../core/states.js';
import { bigint, flag, int, json, text, time, uuid } from '../columns.js';

export class Backup extends Model<InferAttributes<Backup>, InferCreationAttributes<Backup>> {
  declare id: string;
  declare resource_id: string;
  declare number: number;
  declare actor: string;
  /** Made by the plan, which removes it again; else kept until somebody removes it. */
  declare planned: boolean;
  declare state: CreationOptional<BackupState>;
  declare issue: Issue | null;
  declare digest: string | null;
  declare bytes: string | null;
  declare fence: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare lease_until: Date | null;
  declare tries: CreationOptional<number>;
  /** The moment of which it is. */
  declare of_at: Date | null;
  declare tried_at: Date | null;
  /** What came of restoring it beside the resource. */
  declare tried: BackupTried | null;
  /** Of which volume it is; null: of the one that programs use. */
  declare volume_id: string | null;
  declare created_at: CreationOptional<Date>;
  declare ended_at: Date | null;
}

export const defineBackup = (sequelize: Sequelize): typeof Backup =>
  class extends Backup {}.init(
    {
      id: uuid({ key: true }),
      resource_id: uuid({ of: 'resources' }),
      number: int(),
      actor: text(),
      planned: flag(),
      state: text({ made: true }),
      issue: json({ null: true }),
      digest: text({ null: true }),
      bytes: bigint({ null: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      lease_until: time({ null: true }),
      tries: int({ made: true }),
      of_at: time({ null: true }),
      tried_at: time({ null: true }),
      tried: json({ null: true }),
      volume_id: uuid({ null: true, of: 'volumes' }),
      created_at: time({ made: true }),
      ended_at: time({ null: true }),
    },
    { sequelize, modelName: 'Backup', tableName: 'backups', timestamps: false },
  );
