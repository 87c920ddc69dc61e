/** Releases that are brought live, one after another in each environment. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { MadeOf } from '../../../core/compare/compare.js';
import type { RuleName } from '../../../core/rules/rules.js';
import type { SecretPlace } from '../../../core/variables/resolve.js';
import type { EnvironmentPlan } from '../../../core/definition/model.js';
import type { DeploymentKind, DeploymentState } from '../../../core/states.js';
import { flag, int, json, text, time, uuid } from '../columns.js';

export class Deployment extends Model<InferAttributes<Deployment>, InferCreationAttributes<Deployment>> {
  declare id: string;
  declare project_id: string;
  declare number: number;
  declare environment_id: string;
  declare release_id: string;
  declare kind: DeploymentKind;
  declare actor: string;
  declare state: CreationOptional<DeploymentState>;
  declare state_since: CreationOptional<Date>;
  declare failure: Issue | null;
  declare notes: CreationOptional<Issue[]>;
  declare definition_commit: string | null;
  declare environment_plan: EnvironmentPlan;
  /** Plain ones; secrets are named in `secrets`. */
  declare variables: Record<string, string>;
  declare replaces_id: string | null;
  declare live_at: Date | null;
  declare replaced_at: Date | null;
  declare warm_until: Date | null;
  declare due_at: CreationOptional<Date | null>;
  declare created_at: CreationOptional<Date>;
  declare ended_at: Date | null;
  /** Part → how often its programs were wished fresh. */
  declare fresh: CreationOptional<Record<string, number>>;
  /** How often the logins of its programs were changed for new ones. */
  declare turn: CreationOptional<number>;
  declare secrets: CreationOptional<Record<string, SecretPlace>>;
  /** Of an owner, who took it though these rules were not met. */
  declare override: Override | null;
  /** Null: it is older than this is kept. */
  declare made_of: MadeOf | null;
  /** Of `allTraffic`: what it has until somebody ends that; null: it takes all of it. */
  declare split: number | null;
  /** With which it goes, or not at all; null: alone. */
  declare joint_id: string | null;
  declare joint_number: number | null;
  /** When some of the traffic was led to it first. */
  declare seen_at: Date | null;
  /** Since when it is not in good health; null: it is, or was when its place was taken. */
  declare poor_at: Date | null;
  /** How much of it is counted in how delivery goes. */
  declare counted: 'live' | 'over' | null;
  /** Number of the newest run of which something has been live there, with this one; null: it is not counted. */
  declare newest_run: number | null;
  /** What a revert from it goes back to; null: nothing, or it was never live. */
  declare back_id: string | null;
  /** Of a revert: what it leaves, and what it brings back. */
  declare leaves_id: string | null;
  declare restores_id: string | null;
  /** It undoes a revert. */
  declare undoes: CreationOptional<boolean>;
  /** Of a revert: the hold before it. */
  declare held_before: { by: string; why: string } | null;
}

export interface Override {
  by: string;
  why: string;
  rules: RuleName[];
}

export const defineDeployment = (sequelize: Sequelize): typeof Deployment =>
  class extends Deployment {}.init(
    {
      id: uuid({ key: true }),
      project_id: uuid({ of: 'projects' }),
      number: int(),
      environment_id: uuid({ of: 'environments' }),
      release_id: uuid({ of: 'releases' }),
      kind: text(),
      actor: text(),
      state: text({ made: true }),
      state_since: time({ made: true }),
      failure: json({ null: true }),
      notes: json({ made: true }),
      definition_commit: text({ null: true }),
      environment_plan: json(),
      variables: json(),
      replaces_id: uuid({ null: true, of: 'deployments' }),
      live_at: time({ null: true }),
      replaced_at: time({ null: true }),
      warm_until: time({ null: true }),
      due_at: time({ null: true, made: true }),
      created_at: time({ made: true }),
      ended_at: time({ null: true }),
      secrets: json({ made: true }),
      fresh: json({ made: true }),
      turn: int({ made: true }),
      override: json({ null: true }),
      made_of: json({ null: true }),
      split: int({ null: true }),
      joint_id: uuid({ null: true, of: 'joints' }),
      joint_number: int({ null: true }),
      seen_at: time({ null: true }),
      poor_at: time({ null: true }),
      counted: text({ null: true }),
      newest_run: int({ null: true }),
      back_id: uuid({ null: true, of: 'deployments' }),
      leaves_id: uuid({ null: true, of: 'deployments' }),
      restores_id: uuid({ null: true, of: 'deployments' }),
      undoes: flag({ made: true }),
      held_before: json({ null: true }),
    },
    { sequelize, modelName: 'Deployment', tableName: 'deployments', timestamps: false },
  );
