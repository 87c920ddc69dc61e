/** Links that let whoever has one look at a review, and what lets a browser in. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bytes, text, time, uuid } from '../columns.js';

export class ReviewLink extends Model<InferAttributes<ReviewLink>, InferCreationAttributes<ReviewLink>> {
  declare id: string;
  declare environment_id: string;
  declare hash: Buffer;
  declare actor: string;
  declare created_at: CreationOptional<Date>;
  declare expires_at: Date;
  declare removed_at: Date | null;
  declare used_at: Date | null;
}

export const defineReviewLink = (sequelize: Sequelize): typeof ReviewLink =>
  class extends ReviewLink {}.init(
    {
      id: uuid({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      hash: bytes(),
      actor: text(),
      created_at: time({ made: true }),
      expires_at: time(),
      removed_at: time({ null: true }),
      used_at: time({ null: true }),
    },
    { sequelize, modelName: 'ReviewLink', tableName: 'links', timestamps: false },
  );

export class Pass extends Model<InferAttributes<Pass>, InferCreationAttributes<Pass>> {
  declare hash: Buffer;
  declare environment_id: string;
  /** By whose session at the console; else by which link. */
  declare session_id: string | null;
  declare link_id: string | null;
  /** What it was exchanged for: good once. */
  declare code: Buffer | null;
  declare created_at: CreationOptional<Date>;
  declare expires_at: Date;
}

export const definePass = (sequelize: Sequelize): typeof Pass =>
  class extends Pass {}.init(
    {
      hash: bytes({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      session_id: uuid({ null: true }),
      link_id: uuid({ null: true, of: 'links' }),
      code: bytes({ null: true }),
      created_at: time({ made: true }),
      expires_at: time(),
    },
    { sequelize, modelName: 'Pass', tableName: 'passes', timestamps: false },
  );
