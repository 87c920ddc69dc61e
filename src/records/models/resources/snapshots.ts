/** Copies of databases in use, of which reviews get their data. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { ScrubPlan } from '../../../core/definition/model.js';
import type { ResourcePlace, SnapshotState } from '../../../core/states.js';
import { bigint, bytes, flag, int, json, text, time, uuid } from '../columns.js';

export class Snapshot extends Model<InferAttributes<Snapshot>, InferCreationAttributes<Snapshot>> {
  declare id: string;
  /** Whose data it is. */
  declare resource_id: string;
  declare place: ResourcePlace;
  declare actor: string;
  declare state: CreationOptional<SnapshotState>;
  /** No newer one has taken its place. */
  declare wanted: CreationOptional<boolean>;
  declare issue: Issue | null;
  declare tries: CreationOptional<number>;
  declare lost: CreationOptional<number>;
  declare fence: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare lease_until: Date | null;
  declare scrub: ScrubPlan | null;
  /** Whose code scrubs it. */
  declare deployment_id: string | null;
  declare attempt_id: string | null;
  declare sealed: Buffer | null;
  declare fresh_ms: string;
  declare of_at: Date | null;
  declare bytes: string | null;
  declare created_at: CreationOptional<Date>;
  declare ready_at: Date | null;
  declare ended_at: Date | null;
  /** Of a volume: its files, as a tar; and what its scrub has handed over, until it is looked at. */
  declare digest: string | null;
  declare output: string | null;
}

export const defineSnapshot = (sequelize: Sequelize): typeof Snapshot =>
  class extends Snapshot {}.init(
    {
      id: uuid({ key: true }),
      resource_id: uuid({ of: 'resources' }),
      place: text(),
      actor: text(),
      state: text({ made: true }),
      wanted: flag({ made: true }),
      issue: json({ null: true }),
      tries: int({ made: true }),
      lost: int({ made: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      lease_until: time({ null: true }),
      scrub: json({ null: true }),
      deployment_id: uuid({ null: true, of: 'deployments' }),
      attempt_id: uuid({ null: true, of: 'attempts' }),
      sealed: bytes({ null: true }),
      fresh_ms: bigint(),
      of_at: time({ null: true }),
      bytes: bigint({ null: true }),
      created_at: time({ made: true }),
      ready_at: time({ null: true }),
      ended_at: time({ null: true }),
      digest: text({ null: true }),
      output: text({ null: true }),
    },
    { sequelize, modelName: 'Snapshot', tableName: 'snapshots', timestamps: false },
  );
