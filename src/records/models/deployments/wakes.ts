/** Environments of a project that look again because another one there went live. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, text, uuid } from '../columns.js';

export class Wake extends Model<InferAttributes<Wake>, InferCreationAttributes<Wake>> {
  declare id: CreationOptional<string>;
  declare project_id: string;
  /** Reviews of this plan that are awake; null: the standing environments. */
  declare plan: string | null;
  /** This environment alone: what a wake of the project becomes. */
  declare environment_id: string | null;
}

export const defineWake = (sequelize: Sequelize): typeof Wake =>
  class extends Wake {}.init(
    {
      id: bigint({ key: true }),
      project_id: uuid({ of: 'projects' }),
      plan: text({ null: true }),
      environment_id: uuid({ null: true, of: 'environments' }),
    },
    { sequelize, modelName: 'Wake', tableName: 'wakes', timestamps: false },
  );
