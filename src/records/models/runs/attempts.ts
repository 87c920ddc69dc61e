/** Tries at a task, or at a command of a deployment. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { AttemptKind, AttemptState, Takes } from '../../../core/states.js';
import { bigint, flag, int, json, text, time, uuid } from '../columns.js';

export class Attempt extends Model<InferAttributes<Attempt>, InferCreationAttributes<Attempt>> {
  declare id: string;
  declare kind: AttemptKind;
  declare task_id: string | null;
  declare deployment_id: string | null;
  declare project_id: string;
  declare number: number;
  declare state: CreationOptional<AttemptState>;
  declare needs: { takes: Takes; base?: string | null };
  declare agent_id: string | null;
  declare fence: string | null;
  declare lease_until: Date | null;
  declare stop: CreationOptional<boolean>;
  declare issue: Issue | null;
  declare log_bytes: CreationOptional<string>;
  declare log_lines: CreationOptional<string>;
  declare created_at: CreationOptional<Date>;
  declare started_at: Date | null;
  declare ended_at: Date | null;
  /** The lower, the sooner it is taken. */
  declare priority: CreationOptional<number>;
  declare log_gap: unknown | null;
  declare log_gone: CreationOptional<boolean>;
  declare line: string | null;
  /** The fingerprint for which other runs may share it. */
  declare shares: string | null;
  /** Of a job: which part it is. */
  declare part: string | null;
  declare environment_id: string | null;
}

export const defineAttempt = (sequelize: Sequelize): typeof Attempt =>
  class extends Attempt {}.init(
    {
      id: uuid({ key: true }),
      kind: text(),
      task_id: uuid({ null: true, of: 'tasks' }),
      deployment_id: uuid({ null: true, of: 'deployments' }),
      project_id: uuid({ of: 'projects' }),
      number: int(),
      state: text({ made: true }),
      needs: json(),
      agent_id: uuid({ null: true, of: 'agents' }),
      fence: bigint({ null: true }),
      lease_until: time({ null: true }),
      stop: flag({ made: true }),
      issue: json({ null: true }),
      log_bytes: bigint({ made: true }),
      log_lines: bigint({ made: true }),
      created_at: time({ made: true }),
      started_at: time({ null: true }),
      ended_at: time({ null: true }),
      priority: int({ made: true }),
      log_gap: json({ null: true }),
      log_gone: flag({ made: true }),
      line: text({ null: true }),
      shares: text({ null: true }),
      part: text({ null: true }),
      environment_id: uuid({ null: true, of: 'environments' }),
    },
    { sequelize, modelName: 'Attempt', tableName: 'attempts', timestamps: false },
  );
