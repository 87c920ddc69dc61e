/** How far of each stream a destination has it. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, time, uuid } from '../columns.js';

export class SentLog extends Model<InferAttributes<SentLog>, InferCreationAttributes<SentLog>> {
  declare destination_id: string;
  declare stream: string;
  /** Bytes of the stream that are sent, or left out. */
  declare position: string;
  declare sent_at: CreationOptional<Date>;
}

export const defineSentLog = (sequelize: Sequelize): typeof SentLog =>
  class extends SentLog {}.init(
    {
      destination_id: uuid({ key: true, of: 'destinations' }),
      stream: uuid({ key: true }),
      position: bigint(),
      sent_at: time({ made: true }),
    },
    { sequelize, modelName: 'SentLog', tableName: 'sent_logs', timestamps: false },
  );
