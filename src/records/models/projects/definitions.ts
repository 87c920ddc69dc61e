/** Definitions of commits, valid or not. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { DefinitionIssue } from '../../../core/definition/parse.js';
import type { Definition } from '../../../core/definition/model.js';
import { json, text, uuid } from '../columns.js';

export class DefinitionOfCommit extends Model<
  InferAttributes<DefinitionOfCommit>,
  InferCreationAttributes<DefinitionOfCommit>
> {
  declare project_id: string;
  declare commit: string;
  declare model: Definition | null;
  declare issues: CreationOptional<DefinitionIssue[]>;
}

export const defineDefinitionOfCommit = (sequelize: Sequelize): typeof DefinitionOfCommit =>
  class extends DefinitionOfCommit {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      commit: text({ key: true }),
      model: json({ null: true }),
      issues: json({ made: true }),
    },
    { sequelize, modelName: 'DefinitionOfCommit', tableName: 'definitions', timestamps: false },
  );
