/** Logs of attempts and instances, compressed, by month. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, bytes, int, time, uuid } from '../columns.js';

export class LogChunk extends Model<InferAttributes<LogChunk>, InferCreationAttributes<LogChunk>> {
  declare stream: string;
  declare position: string;
  declare bytes: number;
  declare command: number;
  declare first_line: string;
  declare lines: number;
  declare packed: Buffer;
  declare at: CreationOptional<Date>;
}

export const defineLogChunk = (sequelize: Sequelize): typeof LogChunk =>
  class extends LogChunk {}.init(
    {
      stream: uuid({ key: true }),
      position: bigint({ key: true }),
      bytes: int(),
      command: int(),
      first_line: bigint(),
      lines: int(),
      packed: bytes(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'LogChunk', tableName: 'log_chunks', timestamps: false },
  );
