/** How delivery goes, a row a day. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import type { Spread } from '../../../core/delivery/spread.js';
import { bigint, day, int, json, text, uuid } from '../columns.js';

export class TaskDay extends Model<InferAttributes<TaskDay>, InferCreationAttributes<TaskDay>> {
  declare project_id: string;
  declare task: string;
  declare day: string;
  declare ran: number;
  declare reused: number;
  declare failed: number;
  declare flaky: number;
  declare took_ms: string;
  declare saved_ms: string;
  declare took: Spread;
  declare waited: Spread;
}

export const defineTaskDay = (sequelize: Sequelize): typeof TaskDay =>
  class extends TaskDay {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      task: text({ key: true }),
      day: day({ key: true }),
      ran: int(),
      reused: int(),
      failed: int(),
      flaky: int(),
      took_ms: bigint(),
      saved_ms: bigint(),
      took: json(),
      waited: json(),
    },
    { sequelize, modelName: 'TaskDay', tableName: 'task_days', timestamps: false },
  );

export class FlakyDay extends Model<InferAttributes<FlakyDay>, InferCreationAttributes<FlakyDay>> {
  declare project_id: string;
  declare task: string;
  declare test: string;
  declare day: string;
  declare times: number;
}

export const defineFlakyDay = (sequelize: Sequelize): typeof FlakyDay =>
  class extends FlakyDay {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      task: text({ key: true }),
      test: text({ key: true }),
      day: day({ key: true }),
      times: int(),
    },
    { sequelize, modelName: 'FlakyDay', tableName: 'flaky_days', timestamps: false },
  );

export class DeliveryDay extends Model<InferAttributes<DeliveryDay>, InferCreationAttributes<DeliveryDay>> {
  declare project_id: string;
  declare environment_id: string;
  declare day: string;
  declare live: number;
  declare seen: number;
  declare failed: number;
  declare unseen: number;
  declare lead: Spread;
  declare pushed: Spread;
  declare built: Spread;
  declare waited: Spread;
  declare brought: Spread;
  declare restored: Spread;
}

export const defineDeliveryDay = (sequelize: Sequelize): typeof DeliveryDay =>
  class extends DeliveryDay {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      environment_id: uuid({ key: true, of: 'environments' }),
      day: day({ key: true }),
      live: int(),
      seen: int(),
      failed: int(),
      unseen: int(),
      lead: json(),
      pushed: json(),
      built: json(),
      waited: json(),
      brought: json(),
      restored: json(),
    },
    { sequelize, modelName: 'DeliveryDay', tableName: 'delivery_days', timestamps: false },
  );
