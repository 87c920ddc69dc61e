/** The records as a whole: one row. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { flag, text, uuid } from './columns.js';

export class Installation extends Model<InferAttributes<Installation>, InferCreationAttributes<Installation>> {
  declare one: CreationOptional<boolean>;
  /** Random; another one after each restore. */
  declare epoch: CreationOptional<string>;
  /** Where these records were at the last start. */
  declare place: CreationOptional<string>;
}

export const defineInstallation = (sequelize: Sequelize): typeof Installation =>
  class extends Installation {}.init(
    {
      one: flag({ key: true, made: true }),
      epoch: uuid({ made: true }),
      place: text({ made: true }),
    },
    { sequelize, modelName: 'Installation', tableName: 'installation', timestamps: false },
  );
