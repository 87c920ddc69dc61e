/** What fingerprints came to, by trust scope. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { TestResults } from '../../../core/results/model.js';
import { bigint, json, text, time, uuid } from '../columns.js';

export class Result extends Model<InferAttributes<Result>, InferCreationAttributes<Result>> {
  declare project_id: string;
  declare line: string;
  declare fingerprint: string;
  declare attempt_id: string;
  declare state: 'passed' | 'failed';
  declare output: string | null;
  declare at: CreationOptional<Date>;
  declare output_size: string | null;
  declare tests: TestResults | null;
}

export const defineResult = (sequelize: Sequelize): typeof Result =>
  class extends Result {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      line: text({ key: true }),
      fingerprint: text({ key: true }),
      attempt_id: uuid({ key: true, of: 'attempts' }),
      state: text(),
      output: text({ null: true }),
      at: time({ made: true }),
      output_size: bigint({ null: true }),
      tests: json({ null: true }),
    },
    { sequelize, modelName: 'Result', tableName: 'results', timestamps: false },
  );
