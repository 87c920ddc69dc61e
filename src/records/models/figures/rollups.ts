/** How far a step of figures is rolled up into the next. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import { int, time } from '../columns.js';

export class Rollup extends Model<InferAttributes<Rollup>, InferCreationAttributes<Rollup>> {
  declare step: number;
  declare done_at: Date;
}

export const defineRollup = (sequelize: Sequelize): typeof Rollup =>
  class extends Rollup {}.init(
    {
      step: int({ key: true }),
      done_at: time(),
    },
    { sequelize, modelName: 'Rollup', tableName: 'rollups', timestamps: false },
  );
