/** Where addresses lead, by host. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, json, text, uuid } from '../columns.js';

export class Route extends Model<InferAttributes<Route>, InferCreationAttributes<Route>> {
  declare host: string;
  declare environment_id: string;
  declare body: unknown | null;
  declare version: string;
  /** What a certificate authority asks for under the host: the path's last piece → answer. */
  declare proofs: CreationOptional<Record<string, string>>;
}

export const defineRoute = (sequelize: Sequelize): typeof Route =>
  class extends Route {}.init(
    {
      host: text({ key: true }),
      environment_id: uuid({ of: 'environments' }),
      body: json({ null: true }),
      version: bigint(),
      proofs: json({ made: true }),
    },
    { sequelize, modelName: 'Route', tableName: 'routes', timestamps: false },
  );
