/** Who sends figures, and what it sent last. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, text, time, uuid } from '../columns.js';

export class Sender extends Model<InferAttributes<Sender>, InferCreationAttributes<Sender>> {
  declare name: string;
  declare boot: string;
  declare batch: string;
  declare at: CreationOptional<Date>;
}

export const defineSender = (sequelize: Sequelize): typeof Sender =>
  class extends Sender {}.init(
    {
      name: text({ key: true }),
      boot: uuid(),
      batch: bigint(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Sender', tableName: 'senders', timestamps: false },
  );
