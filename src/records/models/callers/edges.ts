/** Edges, and what of the table they have. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import { bigint, bytes, json, text, time, uuid } from '../columns.js';

export class Edge extends Model<InferAttributes<Edge>, InferCreationAttributes<Edge>> {
  declare id: string;
  declare token_id: string;
  declare name: string;
  declare acknowledged: CreationOptional<string>;
  declare seen_at: CreationOptional<Date>;
  /** Hosts that it has not as the table says. */
  declare without: CreationOptional<Record<string, { version: number; issue: Issue | null }>>;
  /** Public key (X25519, SPKI in DER) for which keys of certificates are encrypted. */
  declare public_key: Buffer | null;
  /** From where it last asked; null: it has not since that is recorded. */
  declare address: CreationOptional<string | null>;
}

export const defineEdge = (sequelize: Sequelize): typeof Edge =>
  class extends Edge {}.init(
    {
      id: uuid({ key: true }),
      token_id: uuid({ of: 'tokens' }),
      name: text(),
      acknowledged: bigint({ made: true }),
      seen_at: time({ made: true }),
      without: json({ made: true }),
      public_key: bytes({ null: true }),
      address: text({ null: true }),
    },
    { sequelize, modelName: 'Edge', tableName: 'edges', timestamps: false },
  );
