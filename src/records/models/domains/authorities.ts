/** Accounts with certificate authorities. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bytes, text, time } from '../columns.js';

export class Authority extends Model<InferAttributes<Authority>, InferCreationAttributes<Authority>> {
  /** Address of its directory; `local` is the service's own. */
  declare url: string;
  declare account_url: string | null;
  /** The account's private key, encrypted; of the service's own authority: the key with which it signs. */
  declare sealed: Buffer;
  /** Of the service's own authority: its certificate, PEM. */
  declare root: string | null;
  declare created_at: CreationOptional<Date>;
}

export const defineAuthority = (sequelize: Sequelize): typeof Authority =>
  class extends Authority {}.init(
    {
      url: text({ key: true }),
      account_url: text({ null: true }),
      sealed: bytes(),
      root: text({ null: true }),
      created_at: time({ made: true }),
    },
    { sequelize, modelName: 'Authority', tableName: 'authorities', timestamps: false },
  );
