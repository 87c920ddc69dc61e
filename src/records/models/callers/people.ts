/** People. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Role } from '../../../core/states.js';
import { text, time, uuid } from '../columns.js';

export class Person extends Model<InferAttributes<Person>, InferCreationAttributes<Person>> {
  declare id: string;
  declare name: string;
  declare role: Role;
  declare created_at: CreationOptional<Date>;
  /** Their name stays with what they did. */
  declare removed_at: Date | null;
}

export const definePerson = (sequelize: Sequelize): typeof Person =>
  class extends Person {}.init(
    {
      id: uuid({ key: true }),
      name: text(),
      role: text(),
      created_at: time({ made: true }),
      removed_at: time({ null: true }),
    },
    { sequelize, modelName: 'Person', tableName: 'people', timestamps: false },
  );
