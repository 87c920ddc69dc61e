/** Jobs of environments, and when they run next. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Schedule } from '../../../core/calendar/schedule.js';
import { int, json, text, time, uuid } from '../columns.js';

export class Job extends Model<InferAttributes<Job>, InferCreationAttributes<Job>> {
  declare id: string;
  declare environment_id: string;
  declare part: string;
  /** As the live release has it. */
  declare schedule: Schedule;
  /** From which pauses count. */
  declare anchor_at: CreationOptional<Date>;
  declare next_at: Date;
  /** Times that passed without it, since it last ran. */
  declare missed: CreationOptional<number>;
  declare created_at: CreationOptional<Date>;
}

export const defineJob = (sequelize: Sequelize): typeof Job =>
  class extends Job {}.init(
    {
      id: uuid({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      part: text(),
      schedule: json(),
      anchor_at: time({ made: true }),
      next_at: time(),
      missed: int({ made: true }),
      created_at: time({ made: true }),
    },
    { sequelize, modelName: 'Job', tableName: 'jobs', timestamps: false },
  );
