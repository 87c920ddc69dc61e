/** Pieces of work of a run. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { Task as TaskModel } from '../../../core/definition/model.js';
import type { TestResults } from '../../../core/results/model.js';
import type { TaskState } from '../../../core/states.js';
import { bigint, flag, int, json, text, time, uuid } from '../columns.js';

export class Task extends Model<InferAttributes<Task>, InferCreationAttributes<Task>> {
  declare id: string;
  declare run_id: string;
  declare name: string;
  declare position: number;
  declare state: CreationOptional<TaskState>;
  declare evidence: boolean;
  declare model: TaskModel;
  /** What identifies the set of files that it sees. */
  declare files: { key: string; count: number };
  declare pinned: Record<string, unknown>;
  declare inputs: Record<string, unknown> | null;
  declare fingerprint: string | null;
  declare output: string | null;
  declare output_size: string | null;
  declare tests: TestResults | null;
  declare issue: Issue | null;
  declare started_at: Date | null;
  declare ended_at: Date | null;
  /** The attempt that its result comes from, or that works for it now: its own, or one of another run. */
  declare attempt_id: string | null;
  declare flaky: CreationOptional<boolean>;
}

export const defineTask = (sequelize: Sequelize): typeof Task =>
  class extends Task {}.init(
    {
      id: uuid({ key: true }),
      run_id: uuid({ of: 'runs' }),
      name: text(),
      position: int(),
      state: text({ made: true }),
      evidence: flag(),
      model: json(),
      files: json(),
      pinned: json(),
      inputs: json({ null: true }),
      fingerprint: text({ null: true }),
      output: text({ null: true }),
      output_size: bigint({ null: true }),
      tests: json({ null: true }),
      issue: json({ null: true }),
      started_at: time({ null: true }),
      ended_at: time({ null: true }),
      attempt_id: uuid({ null: true, of: 'attempts' }),
      flaky: flag({ made: true }),
    },
    { sequelize, modelName: 'Task', tableName: 'tasks', timestamps: false },
  );
