/** Statements that refer to a release’s digest. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { EvidenceKind } from '../../../core/states.js';
import { json, text, time, uuid } from '../columns.js';

export class Evidence extends Model<InferAttributes<Evidence>, InferCreationAttributes<Evidence>> {
  declare id: string;
  declare release_id: string;
  declare digest: string;
  declare kind: EvidenceKind;
  declare name: string;
  declare source: string;
  declare detail: Record<string, unknown>;
  declare at: CreationOptional<Date>;
}

export const defineEvidence = (sequelize: Sequelize): typeof Evidence =>
  class extends Evidence {}.init(
    {
      id: uuid({ key: true }),
      release_id: uuid({ of: 'releases' }),
      digest: text(),
      kind: text(),
      name: text(),
      source: text(),
      detail: json(),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Evidence', tableName: 'evidence', timestamps: false },
  );
