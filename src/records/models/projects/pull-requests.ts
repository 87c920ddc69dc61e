/** Proposed changes of code hosts. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Pull } from '../../../core/advance/pulls.js';
import { flag, int, json, text, time, uuid } from '../columns.js';

export class PullRequest extends Model<InferAttributes<PullRequest>, InferCreationAttributes<PullRequest>> {
  declare project_id: string;
  declare number: number;
  declare title: string;
  declare head: string;
  declare base: string;
  declare trusted: boolean;
  declare state: 'open' | 'closed';
  declare draft: CreationOptional<boolean>;
  declare merged: CreationOptional<boolean>;
  /** Field → when it was told to be so. */
  declare times: CreationOptional<Pull['times']>;
  declare updated_at: CreationOptional<Date>;
  /** Who has told of it first. */
  declare author: string | null;
}

export const definePullRequest = (sequelize: Sequelize): typeof PullRequest =>
  class extends PullRequest {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      number: int({ key: true }),
      title: text(),
      head: text(),
      base: text(),
      trusted: flag(),
      state: text(),
      draft: flag({ made: true }),
      merged: flag({ made: true }),
      times: json({ made: true }),
      updated_at: time({ made: true }),
      author: text({ null: true }),
    },
    { sequelize, modelName: 'PullRequest', tableName: 'pull_requests', timestamps: false },
  );
