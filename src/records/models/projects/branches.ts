/** Branches of sources, as they were last seen. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { text, time, uuid } from '../columns.js';

export class Branch extends Model<InferAttributes<Branch>, InferCreationAttributes<Branch>> {
  declare project_id: string;
  declare name: string;
  declare head: string;
  declare updated_at: CreationOptional<Date>;
}

export const defineBranch = (sequelize: Sequelize): typeof Branch =>
  class extends Branch {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      name: text({ key: true }),
      head: text(),
      updated_at: time({ made: true }),
    },
    { sequelize, modelName: 'Branch', tableName: 'branches', timestamps: false },
  );
