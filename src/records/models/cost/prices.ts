/** What memory and processor cost: the newest counts. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { double, text, time, uuid } from '../columns.js';

export class Price extends Model<InferAttributes<Price>, InferCreationAttributes<Price>> {
  declare id: string;
  declare currency: string;
  /** Of one GiB for an hour. */
  declare memory: number;
  /** Of one core for an hour. */
  declare cpu: number;
  declare actor: string;
  declare at: CreationOptional<Date>;
}

export const definePrice = (sequelize: Sequelize): typeof Price =>
  class extends Price {}.init(
    {
      id: uuid({ key: true }),
      currency: text(),
      memory: double(),
      cpu: double(),
      actor: text(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Price', tableName: 'prices', timestamps: false },
  );
