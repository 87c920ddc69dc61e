/** Pictures of what a deployment shows, and the bytes of each. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { Page, PictureFile } from '../../../core/pictures/pages.js';
import type { PictureState } from '../../../core/states.js';
import { bigint, double, int, json, text, time, uuid } from '../columns.js';

export class Picture extends Model<InferAttributes<Picture>, InferCreationAttributes<Picture>> {
  declare id: string;
  declare environment_id: string;
  declare deployment_id: string;
  /** What it stands beside; null: nothing. */
  declare beside_id: string | null;
  declare state: CreationOptional<PictureState>;
  declare issue: Issue | null;
  declare tries: CreationOptional<number>;
  declare fence: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare lease_until: Date | null;
  declare attempt_id: string | null;
  /** Digest of what an agent has handed over, until it is looked at. */
  declare output: string | null;
  declare pages: Page[] | null;
  /** 0 to 1; null: nothing was compared. */
  declare share: number | null;
  declare created_at: CreationOptional<Date>;
  declare taken_at: Date | null;
}

export const definePicture = (sequelize: Sequelize): typeof Picture =>
  class extends Picture {}.init(
    {
      id: uuid({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      deployment_id: uuid({ of: 'deployments' }),
      beside_id: uuid({ null: true, of: 'deployments' }),
      state: text({ made: true }),
      issue: json({ null: true }),
      tries: int({ made: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      lease_until: time({ null: true }),
      attempt_id: uuid({ null: true, of: 'attempts' }),
      output: text({ null: true }),
      pages: json({ null: true }),
      share: double({ null: true }),
      created_at: time({ made: true }),
      taken_at: time({ null: true }),
    },
    { sequelize, modelName: 'Picture', tableName: 'pictures', timestamps: false },
  );

export class StoredPicture extends Model<InferAttributes<StoredPicture>, InferCreationAttributes<StoredPicture>> {
  declare picture_id: string;
  /** Its place among the pages. */
  declare page: number;
  declare file: PictureFile;
  declare digest: string;
  declare bytes: number;
  declare width: number;
  declare height: number;
}

export const defineStoredPicture = (sequelize: Sequelize): typeof StoredPicture =>
  class extends StoredPicture {}.init(
    {
      picture_id: uuid({ key: true, of: 'pictures' }),
      page: int({ key: true }),
      file: text({ key: true }),
      digest: text(),
      bytes: int(),
      width: int(),
      height: int(),
    },
    { sequelize, modelName: 'StoredPicture', tableName: 'picture_files', timestamps: false },
  );
