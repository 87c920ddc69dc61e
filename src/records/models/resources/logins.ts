/** What opens a resource. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { LoginState, LoginUse } from '../../../core/states.js';
import { bytes, int, text, time, uuid } from '../columns.js';

export class Login extends Model<InferAttributes<Login>, InferCreationAttributes<Login>> {
  declare id: string;
  declare resource_id: string;
  declare deployment_id: string | null;
  declare used_by: LoginUse;
  /** Which of the deployment’s: counted by rotations, or by tries of prepare. */
  declare turn: CreationOptional<number>;
  declare person: string | null;
  declare state: CreationOptional<LoginState>;
  declare sealed: Buffer;
  declare expires_at: Date | null;
  declare created_at: CreationOptional<Date>;
  declare ended_at: Date | null;
}

export const defineLogin = (sequelize: Sequelize): typeof Login =>
  class extends Login {}.init(
    {
      id: uuid({ key: true }),
      resource_id: uuid({ of: 'resources' }),
      deployment_id: uuid({ null: true, of: 'deployments' }),
      used_by: text(),
      turn: int({ made: true }),
      person: text({ null: true }),
      state: text({ made: true }),
      sealed: bytes(),
      expires_at: time({ null: true }),
      created_at: time({ made: true }),
      ended_at: time({ null: true }),
    },
    { sequelize, modelName: 'Login', tableName: 'logins', timestamps: false },
  );
