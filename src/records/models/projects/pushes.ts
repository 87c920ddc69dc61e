/** Pushes to hosted projects, intended before refs move. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { text, time, uuid } from '../columns.js';

export class Push extends Model<InferAttributes<Push>, InferCreationAttributes<Push>> {
  declare id: string;
  declare project_id: string;
  declare branch: string;
  declare before_commit: string | null;
  declare commit: string | null;
  declare state: CreationOptional<string>;
  declare actor: string;
  declare at: CreationOptional<Date>;
}

export const definePush = (sequelize: Sequelize): typeof Push =>
  class extends Push {}.init(
    {
      id: uuid({ key: true }),
      project_id: uuid({ of: 'projects' }),
      branch: text(),
      before_commit: text({ null: true }),
      commit: text({ null: true }),
      state: text({ made: true }),
      actor: text(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Push', tableName: 'pushes', timestamps: false },
  );
