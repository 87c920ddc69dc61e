/** One-time sign-ins. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import { bytes, time, uuid } from '../columns.js';

export class SignIn extends Model<InferAttributes<SignIn>, InferCreationAttributes<SignIn>> {
  declare hash: Buffer;
  declare person_id: string;
  declare expires_at: Date;
  declare used_at: Date | null;
}

export const defineSignIn = (sequelize: Sequelize): typeof SignIn =>
  class extends SignIn {}.init(
    {
      hash: bytes({ key: true }),
      person_id: uuid({ of: 'people' }),
      expires_at: time(),
      used_at: time({ null: true }),
    },
    { sequelize, modelName: 'SignIn', tableName: 'sign_ins', timestamps: false },
  );
