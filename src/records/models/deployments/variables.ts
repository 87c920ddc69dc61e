/** Variables and secrets, by version. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bytes, flag, int, text, time, uuid } from '../columns.js';

export class Variable extends Model<InferAttributes<Variable>, InferCreationAttributes<Variable>> {
  declare project_id: string;
  declare scope: string;
  declare name: string;
  declare version: number;
  declare secret: boolean;
  declare value: string | null;
  declare sealed: Buffer | null;
  declare removed: CreationOptional<boolean>;
  declare actor: string;
  declare at: CreationOptional<Date>;
}

export const defineVariable = (sequelize: Sequelize): typeof Variable =>
  class extends Variable {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      scope: text({ key: true }),
      name: text({ key: true }),
      version: int({ key: true }),
      secret: flag(),
      value: text({ null: true }),
      sealed: bytes({ null: true }),
      removed: flag({ made: true }),
      actor: text(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Variable', tableName: 'variables', timestamps: false },
  );
