/** Where a deployment is on the way of its traffic. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Mirrored } from '../../../core/cutover/mirrored.js';
import type { CutoverStep } from '../../../core/cutover/steps.js';
import type { CutoverTests } from '../../../core/cutover/verdict.js';
import type { Issue } from '../../../core/errors/errors.js';
import { int, json, text, time, uuid } from '../columns.js';

export class Cutover extends Model<InferAttributes<Cutover>, InferCreationAttributes<Cutover>> {
  declare deployment_id: string;
  declare before_id: string | null;
  declare step: CutoverStep;
  /** Counts the steps: what edges have counted of another one says nothing of this one. */
  declare stage: CreationOptional<number>;
  declare since: CreationOptional<Date>;
  declare ordered: 'stay' | 'go on' | 'back' | null;
  declare ordered_by: string | null;
  declare tests: CreationOptional<CutoverTests>;
  /** What came of copies of requests. */
  declare mirrored: Mirrored | null;
  declare worse: Issue | null;
  declare waits: Issue | null;
  declare watched_until: Date | null;
}

export const defineCutover = (sequelize: Sequelize): typeof Cutover =>
  class extends Cutover {}.init(
    {
      deployment_id: uuid({ key: true, of: 'deployments' }),
      before_id: uuid({ null: true, of: 'deployments' }),
      step: json(),
      stage: int({ made: true }),
      since: time({ made: true }),
      ordered: text({ null: true }),
      ordered_by: text({ null: true }),
      tests: json({ made: true }),
      mirrored: json({ null: true }),
      worse: json({ null: true }),
      waits: json({ null: true }),
      watched_until: time({ null: true }),
    },
    { sequelize, modelName: 'Cutover', tableName: 'cutovers', timestamps: false },
  );
