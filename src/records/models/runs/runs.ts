/** Runs of a commit’s tasks. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { RunState } from '../../../core/states.js';
import { bigint, flag, int, json, text, texts, time, uuid } from '../columns.js';

export class Run extends Model<InferAttributes<Run>, InferCreationAttributes<Run>> {
  declare id: string;
  declare project_id: string;
  declare number: number;
  declare commit: string;
  declare branch: string | null;
  declare pull_request: number | null;
  /** Its trust scope. */
  declare line: string;
  declare state: CreationOptional<RunState>;
  declare cause: string;
  declare actor: string;
  declare allowed: CreationOptional<boolean>;
  declare stopped_by: string | null;
  declare issue: Issue | null;
  declare warnings: CreationOptional<Issue[]>;
  declare tasks_total: CreationOptional<number>;
  declare tasks_ended: CreationOptional<number>;
  declare released: CreationOptional<boolean>;
  declare planned_at: Date | null;
  declare unplaced_at: Date | null;
  declare due_at: CreationOptional<Date | null>;
  declare created_at: CreationOptional<Date>;
  declare started_at: Date | null;
  declare ended_at: Date | null;
  /** Declared names of tasks whose earlier passes do not count; an empty list: no task’s do; null: all do. */
  declare fresh: string[] | null;
  /** Number of the run that took its place. */
  declare superseded_by: number | null;
  /** When its logs and outputs were let go. */
  declare trimmed_at: Date | null;
  declare planning_tries: CreationOptional<number>;
  /** Raised by every change to it or its tasks. */
  declare version: CreationOptional<string>;
  /** In how delivery goes. */
  declare counted: CreationOptional<boolean>;
}

export const defineRun = (sequelize: Sequelize): typeof Run =>
  class extends Run {}.init(
    {
      id: uuid({ key: true }),
      project_id: uuid({ of: 'projects' }),
      number: int(),
      commit: text(),
      branch: text({ null: true }),
      pull_request: int({ null: true }),
      line: text(),
      state: text({ made: true }),
      cause: text(),
      actor: text(),
      allowed: flag({ made: true }),
      stopped_by: text({ null: true }),
      issue: json({ null: true }),
      warnings: json({ made: true }),
      tasks_total: int({ made: true }),
      tasks_ended: int({ made: true }),
      released: flag({ made: true }),
      planned_at: time({ null: true }),
      unplaced_at: time({ null: true }),
      due_at: time({ null: true, made: true }),
      created_at: time({ made: true }),
      started_at: time({ null: true }),
      ended_at: time({ null: true }),
      fresh: texts({ null: true }),
      superseded_by: int({ null: true }),
      trimmed_at: time({ null: true }),
      planning_tries: int({ made: true }),
      version: bigint({ made: true }),
      counted: flag({ made: true }),
    },
    { sequelize, modelName: 'Run', tableName: 'runs', timestamps: false },
  );
