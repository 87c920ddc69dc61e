/** Commits that were recorded. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import { text, time, uuid } from '../columns.js';

export class Commit extends Model<InferAttributes<Commit>, InferCreationAttributes<Commit>> {
  declare project_id: string;
  declare id: string;
  declare title: string;
  declare author: string;
  declare at: Date;
}

export const defineCommit = (sequelize: Sequelize): typeof Commit =>
  class extends Commit {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      id: text({ key: true }),
      title: text(),
      author: text(),
      at: time(),
    },
    { sequelize, modelName: 'Commit', tableName: 'commits', timestamps: false },
  );
