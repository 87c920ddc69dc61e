/** Tokens of people, agents and edges. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Role, Takes } from '../../../core/states.js';
import { bytes, int, text, texts, time, uuid } from '../columns.js';

export class Token extends Model<InferAttributes<Token>, InferCreationAttributes<Token>> {
  declare id: string;
  declare hash: Buffer;
  declare kind: string;
  declare name: string;
  declare person_id: string | null;
  declare role: Role | null;
  declare project_id: string | null;
  declare created_at: CreationOptional<Date>;
  declare expires_at: Date | null;
  declare used_at: Date | null;
  declare removed_at: Date | null;
  declare takes: Takes[] | null;
  declare address: string | null;
  declare port_from: number | null;
  declare port_to: number | null;
}

export const defineToken = (sequelize: Sequelize): typeof Token =>
  class extends Token {}.init(
    {
      id: uuid({ key: true }),
      hash: bytes(),
      kind: text(),
      name: text(),
      person_id: uuid({ null: true, of: 'people' }),
      role: text({ null: true }),
      project_id: uuid({ null: true, of: 'projects' }),
      created_at: time({ made: true }),
      expires_at: time({ null: true }),
      used_at: time({ null: true }),
      removed_at: time({ null: true }),
      takes: texts({ null: true }),
      address: text({ null: true }),
      port_from: int({ null: true }),
      port_to: int({ null: true }),
    },
    { sequelize, modelName: 'Token', tableName: 'tokens', timestamps: false },
  );
