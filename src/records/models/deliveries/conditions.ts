/** What is wrong now. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import type { AlertTopic } from '../../../core/states.js';
import { text, time, uuid } from '../columns.js';

export class Condition extends Model<InferAttributes<Condition>, InferCreationAttributes<Condition>> {
  declare topic: AlertTopic;
  declare place: string;
  declare of: string;
  declare project_id: string | null;
  declare environment: string | null;
  declare says: string;
  declare seen_at: Date;
  /** Its beginning was told. */
  declare begun_at: Date | null;
  /** It was not there when last looked. */
  declare gone_at: Date | null;
}

export const defineCondition = (sequelize: Sequelize): typeof Condition =>
  class extends Condition {}.init(
    {
      topic: text({ key: true }),
      place: text({ key: true }),
      of: text(),
      project_id: uuid({ null: true, of: 'projects' }),
      environment: text({ null: true }),
      says: text(),
      seen_at: time(),
      begun_at: time({ null: true }),
      gone_at: time({ null: true }),
    },
    { sequelize, modelName: 'Condition', tableName: 'conditions', timestamps: false },
  );
