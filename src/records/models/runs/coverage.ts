/** Lines of the project’s files that an attempt has run. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import type { FileCoverage } from '../../../core/results/coverage.js';
import { int, json, uuid } from '../columns.js';

export class CoverageOfAttempt extends Model<
  InferAttributes<CoverageOfAttempt>,
  InferCreationAttributes<CoverageOfAttempt>
> {
  declare attempt_id: string;
  declare found: number;
  declare hit: number;
  declare files: FileCoverage[];
}

export const defineCoverageOfAttempt = (sequelize: Sequelize): typeof CoverageOfAttempt =>
  class extends CoverageOfAttempt {}.init(
    {
      attempt_id: uuid({ key: true, of: 'attempts' }),
      found: int(),
      hit: int(),
      files: json(),
    },
    { sequelize, modelName: 'CoverageOfAttempt', tableName: 'coverage', timestamps: false },
  );
