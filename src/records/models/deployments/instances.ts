/** Processes of parts. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { InstanceState, PartKind } from '../../../core/states.js';
import { bigint, flag, int, json, text, time, uuid } from '../columns.js';

export class Instance extends Model<InferAttributes<Instance>, InferCreationAttributes<Instance>> {
  declare id: string;
  declare deployment_id: string;
  declare started_for: string;
  declare part: string;
  declare kind: PartKind;
  declare position: number;
  declare state: CreationOptional<InstanceState>;
  declare wanted: CreationOptional<boolean>;
  declare restarts: CreationOptional<number>;
  declare agent_id: string | null;
  declare fence: string | null;
  declare address: string | null;
  declare port: number | null;
  declare exit: number | null;
  declare issue: Issue | null;
  declare log_bytes: CreationOptional<string>;
  declare log_lines: CreationOptional<string>;
  declare start_at: CreationOptional<Date>;
  declare created_at: CreationOptional<Date>;
  declare ready_at: Date | null;
  declare ended_at: Date | null;
  /** The first byte of its log that is kept. */
  declare log_from: CreationOptional<string>;
  declare log_gone: CreationOptional<boolean>;
  /** As of which wish for fresh programs, and with which logins, it was started. */
  declare fresh: CreationOptional<number>;
  declare turn: CreationOptional<number>;
  /** Bytes with which it is reckoned where it runs. */
  declare memory: CreationOptional<string>;
  /** It shall stand still. */
  declare still: CreationOptional<boolean>;
}

export const defineInstance = (sequelize: Sequelize): typeof Instance =>
  class extends Instance {}.init(
    {
      id: uuid({ key: true }),
      deployment_id: uuid({ of: 'deployments' }),
      started_for: uuid({ of: 'deployments' }),
      part: text(),
      kind: text(),
      position: int(),
      state: text({ made: true }),
      wanted: flag({ made: true }),
      restarts: int({ made: true }),
      agent_id: uuid({ null: true, of: 'agents' }),
      fence: bigint({ null: true }),
      address: text({ null: true }),
      port: int({ null: true }),
      exit: int({ null: true }),
      issue: json({ null: true }),
      log_bytes: bigint({ made: true }),
      log_lines: bigint({ made: true }),
      start_at: time({ made: true }),
      created_at: time({ made: true }),
      ready_at: time({ null: true }),
      ended_at: time({ null: true }),
      log_from: bigint({ made: true }),
      log_gone: flag({ made: true }),
      fresh: int({ made: true }),
      turn: int({ made: true }),
      memory: bigint({ made: true }),
      still: flag({ made: true }),
    },
    { sequelize, modelName: 'Instance', tableName: 'instances', timestamps: false },
  );
