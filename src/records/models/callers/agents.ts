/** Machines that take work. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { Takes } from '../../../core/states.js';
import { bigint, int, json, text, texts, time, uuid } from '../columns.js';

export class Agent extends Model<InferAttributes<Agent>, InferCreationAttributes<Agent>> {
  declare id: string;
  declare token_id: string;
  declare name: string;
  declare boot: string;
  /** What it takes of what its token allows. */
  declare takes: Takes[];
  declare slots: number;
  declare address: string;
  declare tools: Record<string, string>;
  declare base: string;
  declare sandbox: Record<string, unknown>;
  declare seen_at: CreationOptional<Date>;
  declare lease_until: Date;
  /** Why it takes nothing new, or null. */
  declare full_issue: Issue | null;
  declare port_from: CreationOptional<number>;
  declare port_to: CreationOptional<number>;
  /** Bytes that its instances may take together, and how many it can still take; null: it does not say. */
  declare memory: string | null;
  declare places: number | null;
}

export const defineAgent = (sequelize: Sequelize): typeof Agent =>
  class extends Agent {}.init(
    {
      id: uuid({ key: true }),
      token_id: uuid({ of: 'tokens' }),
      name: text(),
      boot: uuid(),
      takes: texts(),
      slots: int(),
      address: text(),
      tools: json(),
      base: text(),
      sandbox: json(),
      seen_at: time({ made: true }),
      lease_until: time(),
      full_issue: json({ null: true }),
      port_from: int({ made: true }),
      port_to: int({ made: true }),
      memory: bigint({ null: true }),
      places: int({ null: true }),
    },
    { sequelize, modelName: 'Agent', tableName: 'agents', timestamps: false },
  );
