/** Where people are signed in. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bytes, text, time, uuid } from '../columns.js';

export class Session extends Model<InferAttributes<Session>, InferCreationAttributes<Session>> {
  declare hash: Buffer;
  declare person_id: string;
  declare created_at: CreationOptional<Date>;
  declare expires_at: Date;
  declare id: string;
  declare token_id: string | null;
  declare client: CreationOptional<string>;
  declare seen_at: CreationOptional<Date>;
}

export const defineSession = (sequelize: Sequelize): typeof Session =>
  class extends Session {}.init(
    {
      hash: bytes({ key: true }),
      person_id: uuid({ of: 'people' }),
      created_at: time({ made: true }),
      expires_at: time(),
      id: uuid(),
      token_id: uuid({ null: true, of: 'tokens' }),
      client: text({ made: true }),
      seen_at: time({ made: true }),
    },
    { sequelize, modelName: 'Session', tableName: 'sessions', timestamps: false },
  );
