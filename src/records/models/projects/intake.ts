/** Events of code hosts, as they arrived. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import { int, json, text, time, uuid } from '../columns.js';

export class Intake extends Model<InferAttributes<Intake>, InferCreationAttributes<Intake>> {
  declare project_id: string;
  declare event_id: string;
  declare source: string;
  declare type: string;
  /** What of the event is needed. */
  declare body: Record<string, unknown>;
  declare state: CreationOptional<string>;
  declare tries: CreationOptional<number>;
  declare due_at: CreationOptional<Date | null>;
  declare issue: Issue | null;
  declare at: CreationOptional<Date>;
  /** When it happened at the code host. */
  declare told_at: Date | null;
}

export const defineIntake = (sequelize: Sequelize): typeof Intake =>
  class extends Intake {}.init(
    {
      project_id: uuid({ key: true, of: 'projects' }),
      event_id: text({ key: true }),
      source: text({ key: true }),
      type: text(),
      body: json(),
      state: text({ made: true }),
      tries: int({ made: true }),
      due_at: time({ null: true, made: true }),
      issue: json({ null: true }),
      at: time({ made: true }),
      told_at: time({ null: true }),
    },
    { sequelize, modelName: 'Intake', tableName: 'intake', timestamps: false },
  );
