/** Who has approved which bytes for an environment. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { flag, text, time, uuid } from '../columns.js';

export class Approval extends Model<InferAttributes<Approval>, InferCreationAttributes<Approval>> {
  declare id: string;
  declare environment_id: string;
  declare release_id: string;
  declare digest: string;
  declare person_id: string;
  /** They have written some of what it brings. */
  declare author: boolean;
  declare at: CreationOptional<Date>;
  declare withdrawn_at: CreationOptional<Date | null>;
  /** Commit of the release that was live when `author` was computed, '' for none; null: not computed since it is recorded. */
  declare against: CreationOptional<string | null>;
}

export const defineApproval = (sequelize: Sequelize): typeof Approval =>
  class extends Approval {}.init(
    {
      id: uuid({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      release_id: uuid({ of: 'releases' }),
      digest: text(),
      person_id: uuid({ of: 'people' }),
      author: flag(),
      at: time({ made: true }),
      withdrawn_at: time({ null: true }),
      against: text({ null: true }),
    },
    { sequelize, modelName: 'Approval', tableName: 'approvals', timestamps: false },
  );
