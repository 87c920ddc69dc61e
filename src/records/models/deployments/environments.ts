/** Places where one release at a time is live. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { ScrubPlan } from '../../../core/definition/model.js';
import type { SetSizes } from '../../../core/scale/sizes.js';
import type { Issue } from '../../../core/errors/errors.js';
import type { Rules } from '../../../core/rules/in-force.js';
import type { EnvironmentState, Health, SleepDepth, Wish } from '../../../core/states.js';
import { bigint, flag, int, json, text, time, uuid } from '../columns.js';

export class Environment extends Model<InferAttributes<Environment>, InferCreationAttributes<Environment>> {
  declare id: string;
  declare project_id: string;
  declare name: string;
  declare kind: 'standing' | 'review';
  /** The environment of the definition that says how it works. */
  declare plan_name: string;
  declare pull_request: number | null;
  declare host: string;
  declare state: CreationOptional<EnvironmentState>;
  declare health: CreationOptional<Health>;
  declare held_by: string | null;
  declare held_why: string | null;
  declare live_id: string | null;
  declare serving_id: string | null;
  declare table_version: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare created_at: CreationOptional<Date>;
  declare closed_at: Date | null;
  /** Since when it is there: it may have been closed, and opened again. */
  declare opened_at: CreationOptional<Date>;
  /** It closes, and is wanted again as soon as nothing of it is left. */
  declare reopen: CreationOptional<boolean>;
  /** Since when it is in its state. */
  declare state_since: CreationOptional<Date>;
  /** How deep it sleeps, or shall. */
  declare depth: SleepDepth | null;
  declare used_at: CreationOptional<Date>;
  /** When it was woken or made live last. */
  declare woken_at: CreationOptional<Date>;
  declare keep_until: Date | null;
  /** What was asked of it, and is not done yet. */
  declare wish: Wish | null;
  declare wake_issue: Issue | null;
  /** Of a review without a pull request: the branch whose releases it takes. */
  declare branch: string | null;
  /** Of a pull request whose author may not write there. */
  declare outside: CreationOptional<boolean>;
  /** When its data was filled last. */
  declare seeded_at: Date | null;
  /** The scrub with which an owner has permitted copies of its data. */
  declare copies: ScrubPlan | null;
  /** Why it takes nothing new. */
  declare issue: Issue | null;
  /** Part → what a person has set of its size. */
  declare sizes: CreationOptional<SetSizes>;
  /** The rules that count; null: those that main declares. */
  declare rules: Rules | null;
  /** By hand, of an owner; one whose end has come counts no more. */
  declare frozen_by: Freeze | null;
  /** Since when what is live is in good health without a pause; null: it is not. */
  declare healthy_since: Date | null;
}

export interface Freeze {
  by: string;
  why: string;
  /** ISO 8601. */
  until: string;
}

export const defineEnvironment = (sequelize: Sequelize): typeof Environment =>
  class extends Environment {}.init(
    {
      id: uuid({ key: true }),
      project_id: uuid({ of: 'projects' }),
      name: text(),
      kind: text(),
      plan_name: text(),
      pull_request: int({ null: true }),
      host: text(),
      state: text({ made: true }),
      health: text({ made: true }),
      held_by: text({ null: true }),
      held_why: text({ null: true }),
      live_id: uuid({ null: true, of: 'deployments' }),
      serving_id: uuid({ null: true, of: 'deployments' }),
      table_version: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      created_at: time({ made: true }),
      closed_at: time({ null: true }),
      opened_at: time({ made: true }),
      reopen: flag({ made: true }),
      state_since: time({ made: true }),
      depth: text({ null: true }),
      used_at: time({ made: true }),
      woken_at: time({ made: true }),
      keep_until: time({ null: true }),
      wish: text({ null: true }),
      wake_issue: json({ null: true }),
      branch: text({ null: true }),
      outside: flag({ made: true }),
      seeded_at: time({ null: true }),
      copies: json({ null: true }),
      issue: json({ null: true }),
      sizes: json({ made: true }),
      rules: json({ null: true }),
      frozen_by: json({ null: true }),
      healthy_since: time({ null: true }),
    },
    { sequelize, modelName: 'Environment', tableName: 'environments', timestamps: false },
  );
