/** Answers to changes, for those that are sent twice. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bytes, int, text, time } from '../columns.js';

export class Answer extends Model<InferAttributes<Answer>, InferCreationAttributes<Answer>> {
  declare actor: string;
  declare key: string;
  declare request: Buffer;
  declare status: number;
  declare at: CreationOptional<Date>;
  declare sealed: Buffer | null;
}

export const defineAnswer = (sequelize: Sequelize): typeof Answer =>
  class extends Answer {}.init(
    {
      actor: text({ key: true }),
      key: text({ key: true }),
      request: bytes(),
      status: int(),
      at: time({ made: true }),
      sealed: bytes({ null: true }),
    },
    { sequelize, modelName: 'Answer', tableName: 'answers', timestamps: false },
  );
