/** Files of environments, each on one agent's machine. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { VolumeHold, VolumeState } from '../../../core/states.js';
import { bigint, flag, text, time, uuid } from '../columns.js';

export class Volume extends Model<InferAttributes<Volume>, InferCreationAttributes<Volume>> {
  declare id: string;
  declare resource_id: string;
  /** On whose machine it is. */
  declare agent_id: string;
  declare state: CreationOptional<VolumeState>;
  /** What holds it to its size; null before its agent has said so. */
  declare hold: VolumeHold | null;
  /** Bytes that it may hold, and holds, as its agent saw it last. */
  declare size: string | null;
  declare used: string | null;
  /** Nobody may begin to use it: its files are being changed for others. */
  declare closed: CreationOptional<boolean>;
  declare seen_at: Date | null;
  declare created_at: CreationOptional<Date>;
  declare ended_at: Date | null;
}

export const defineVolume = (sequelize: Sequelize): typeof Volume =>
  class extends Volume {}.init(
    {
      id: uuid({ key: true }),
      resource_id: uuid({ of: 'resources' }),
      agent_id: uuid({ of: 'agents' }),
      state: text({ made: true }),
      hold: text({ null: true }),
      size: bigint({ null: true }),
      used: bigint({ null: true }),
      closed: flag({ made: true }),
      seen_at: time({ null: true }),
      created_at: time({ made: true }),
      ended_at: time({ null: true }),
    },
    { sequelize, modelName: 'Volume', tableName: 'volumes', timestamps: false },
  );
