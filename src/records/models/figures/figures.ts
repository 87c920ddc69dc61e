/** What was counted of programs, a row for each instance and step. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import { bigint, int, ints, text, time, uuid } from '../columns.js';

export class Figure extends Model<InferAttributes<Figure>, InferCreationAttributes<Figure>> {
  /** Seconds. */
  declare step: number;
  declare at: Date;
  declare environment_id: string;
  declare deployment: number;
  declare part: string;
  declare instance: string;
  declare requests: number;
  declare errors: number;
  declare bytes: string;
  declare times: number[];
  declare cpu: number;
  declare memory: string;
}

export const defineFigure = (sequelize: Sequelize): typeof Figure =>
  class extends Figure {}.init(
    {
      step: int({ key: true }),
      at: time({ key: true }),
      environment_id: uuid({ key: true }),
      deployment: int({ key: true }),
      part: text({ key: true }),
      instance: text({ key: true }),
      requests: int(),
      errors: int(),
      bytes: bigint(),
      times: ints(),
      cpu: int(),
      memory: bigint(),
    },
    { sequelize, modelName: 'Figure', tableName: 'figures', timestamps: false },
  );
