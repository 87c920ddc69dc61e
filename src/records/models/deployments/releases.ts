/** Immutable releases. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { PartImage } from '../../../core/release/image.js';
import type { ReleasePlan } from '../../../core/definition/model.js';
import { int, json, text, time, uuid } from '../columns.js';

/** Where a release was made, as what, and whose key vouches for it. */
export interface Imported {
  service: string;
  project: string;
  number: number;
  key: string;
}

export class Release extends Model<InferAttributes<Release>, InferCreationAttributes<Release>> {
  declare id: string;
  declare project_id: string;
  declare number: number;
  declare digest: string;
  declare commit: string;
  declare branch: string | null;
  declare pull_request: number | null;
  /** Null: it was made elsewhere. */
  declare run_id: string | null;
  declare parts: PartImage[];
  declare plan: ReleasePlan;
  declare created_at: CreationOptional<Date>;
  declare gone_at: Date | null;
  declare line: CreationOptional<string>;
  /** Files that its definition lists as migrations, in the order of their paths; null: it is older than this is kept. */
  declare migrations: { path: string; id: string }[] | null;
  declare imported: Imported | null;
}

export const defineRelease = (sequelize: Sequelize): typeof Release =>
  class extends Release {}.init(
    {
      id: uuid({ key: true }),
      project_id: uuid({ of: 'projects' }),
      number: int(),
      digest: text(),
      commit: text(),
      branch: text({ null: true }),
      pull_request: int({ null: true }),
      run_id: uuid({ of: 'runs', null: true }),
      parts: json(),
      plan: json(),
      created_at: time({ made: true }),
      gone_at: time({ null: true }),
      line: text({ made: true }),
      migrations: json({ null: true }),
      imported: json({ null: true }),
    },
    { sequelize, modelName: 'Release', tableName: 'releases', timestamps: false },
  );
