/** Signed hashes over the events since the last. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, bytes, time } from '../columns.js';

export class Seal extends Model<InferAttributes<Seal>, InferCreationAttributes<Seal>> {
  declare last_number: string;
  declare first_number: string;
  declare hash: Buffer;
  declare signature: Buffer;
  declare at: CreationOptional<Date>;
}

export const defineSeal = (sequelize: Sequelize): typeof Seal =>
  class extends Seal {}.init(
    {
      last_number: bigint({ key: true }),
      first_number: bigint(),
      hash: bytes(),
      signature: bytes(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Seal', tableName: 'seals', timestamps: false },
  );
