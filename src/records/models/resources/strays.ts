/** What stands on database servers and belongs to nothing that is recorded. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { text, time } from '../columns.js';

export class Stray extends Model<InferAttributes<Stray>, InferCreationAttributes<Stray>> {
  declare place: string;
  declare name: string;
  declare found_at: CreationOptional<Date>;
}

export const defineStray = (sequelize: Sequelize): typeof Stray =>
  class extends Stray {}.init(
    {
      place: text({ key: true }),
      name: text({ key: true }),
      found_at: time({ made: true }),
    },
    { sequelize, modelName: 'Stray', tableName: 'strays', timestamps: false },
  );
