/** What agents are to do to volumes of theirs. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { ChoreAct, ChoreState } from '../../../core/states.js';
import { bigint, json, text, time, uuid } from '../columns.js';

export class Chore extends Model<InferAttributes<Chore>, InferCreationAttributes<Chore>> {
  declare id: string;
  declare volume_id: string;
  declare agent_id: string;
  declare act: ChoreAct;
  /** Which wish it fulfils: the same wish is one chore. */
  declare turn: string;
  /** Bytes that the volume may hold. */
  declare size: string | null;
  /** Stored bytes that it brings back, or tries. */
  declare digest: string | null;
  declare state: CreationOptional<ChoreState>;
  declare fence: CreationOptional<string>;
  /** What came of it: stored bytes, what was counted, or why not. */
  declare kept_digest: string | null;
  declare kept_bytes: string | null;
  declare found: { files: number; bytes: number } | null;
  declare issue: Issue | null;
  /** Since when it is in its state. */
  declare since: CreationOptional<Date>;
  declare created_at: CreationOptional<Date>;
  declare ended_at: Date | null;
}

export const defineChore = (sequelize: Sequelize): typeof Chore =>
  class extends Chore {}.init(
    {
      id: uuid({ key: true }),
      volume_id: uuid({ of: 'volumes' }),
      agent_id: uuid({ of: 'agents' }),
      act: text(),
      turn: text(),
      size: bigint({ null: true }),
      digest: text({ null: true }),
      state: text({ made: true }),
      fence: bigint({ made: true }),
      kept_digest: text({ null: true }),
      kept_bytes: bigint({ null: true }),
      found: json({ null: true }),
      issue: json({ null: true }),
      since: time({ made: true }),
      created_at: time({ made: true }),
      ended_at: time({ null: true }),
    },
    { sequelize, modelName: 'Chore', tableName: 'chores', timestamps: false },
  );
