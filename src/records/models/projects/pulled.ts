/** Refs of pull requests, as they stood at the last look at a source. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import { int, text, uuid } from '../columns.js';

export class Pulled extends Model<InferAttributes<Pulled>, InferCreationAttributes<Pulled>> {
  declare project_id: string;
  declare number: number;
  /** Commit id. */
  declare head: string;
}

export const definePulled = (sequelize: Sequelize): typeof Pulled =>
  class extends Pulled {}.init(
    { project_id: uuid({ key: true, of: 'projects' }), number: int({ key: true }), head: text() },
    { sequelize, modelName: 'Pulled', tableName: 'pulled', timestamps: false },
  );
