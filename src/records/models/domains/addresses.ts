/** Names under which environments are reached. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { AddressKind, AddressState } from '../../../core/states.js';
import { bigint, flag, int, json, text, time, uuid } from '../columns.js';

export class Address extends Model<InferAttributes<Address>, InferCreationAttributes<Address>> {
  declare id: string;
  declare environment_id: string;
  declare host: string;
  declare kind: AddressKind;
  /** The definition of the main branch names it. */
  declare declared: CreationOptional<boolean>;
  declare actor: string;
  declare state: AddressState;
  declare state_since: CreationOptional<Date>;
  declare issue: Issue | null;
  declare tries: CreationOptional<number>;
  declare fence: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare lease_until: Date | null;
  declare certificate_id: string | null;
  declare created_at: CreationOptional<Date>;
  declare removed_at: Date | null;
}

export const defineAddress = (sequelize: Sequelize): typeof Address =>
  class extends Address {}.init(
    {
      id: uuid({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      host: text(),
      kind: text(),
      declared: flag({ made: true }),
      actor: text(),
      state: text(),
      state_since: time({ made: true }),
      issue: json({ null: true }),
      tries: int({ made: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      lease_until: time({ null: true }),
      certificate_id: uuid({ null: true, of: 'certificates' }),
      created_at: time({ made: true }),
      removed_at: time({ null: true }),
    },
    { sequelize, modelName: 'Address', tableName: 'addresses', timestamps: false },
  );
