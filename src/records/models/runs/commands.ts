/** Commands of attempts. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { AttemptState } from '../../../core/states.js';
import { bigint, int, text, time, uuid } from '../columns.js';

export class Command extends Model<InferAttributes<Command>, InferCreationAttributes<Command>> {
  declare attempt_id: string;
  declare position: number;
  declare text: string;
  declare state: AttemptState;
  declare exit: number | null;
  declare started_at: Date;
  declare ms: number | null;
  declare first_line: CreationOptional<string>;
}

export const defineCommand = (sequelize: Sequelize): typeof Command =>
  class extends Command {}.init(
    {
      attempt_id: uuid({ key: true, of: 'attempts' }),
      position: int({ key: true }),
      text: text(),
      state: text(),
      exit: int({ null: true }),
      started_at: time(),
      ms: int({ null: true }),
      first_line: bigint({ made: true }),
    },
    { sequelize, modelName: 'Command', tableName: 'commands', timestamps: false },
  );
