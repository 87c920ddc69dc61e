/** Bytes that releases need. */
import { type InferAttributes, type InferCreationAttributes, Model, type Sequelize } from 'sequelize';
import { text, uuid } from '../columns.js';

export class ReleaseBlob extends Model<InferAttributes<ReleaseBlob>, InferCreationAttributes<ReleaseBlob>> {
  declare release_id: string;
  declare digest: string;
}

export const defineReleaseBlob = (sequelize: Sequelize): typeof ReleaseBlob =>
  class extends ReleaseBlob {}.init(
    {
      release_id: uuid({ key: true, of: 'releases' }),
      digest: text({ key: true }),
    },
    { sequelize, modelName: 'ReleaseBlob', tableName: 'release_blobs', timestamps: false },
  );
