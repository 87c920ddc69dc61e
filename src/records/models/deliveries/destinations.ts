/** Where the logs of programs go on to. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { DestinationKind } from '../../../core/states.js';
import { bigint, bytes, int, json, text, time, uuid } from '../columns.js';

export class Destination extends Model<InferAttributes<Destination>, InferCreationAttributes<Destination>> {
  declare id: string;
  declare name: string;
  declare kind: DestinationKind;
  declare url: string;
  /** Certificates that it is known by instead of those of everybody (PEM). */
  declare authorities: string | null;
  /** Name and value of a header. */
  declare sealed: Buffer | null;
  declare project_id: string | null;
  declare environment: string | null;
  declare issue: Issue | null;
  /** Sendings in a row that were not accepted. */
  declare tries: CreationOptional<number>;
  declare sent_lines: CreationOptional<string>;
  /** Of what was gone before it could be sent, or was refused for good. */
  declare left_bytes: CreationOptional<string>;
  declare sent_at: Date | null;
  declare fence: CreationOptional<string>;
  declare due_at: CreationOptional<Date | null>;
  declare lease_until: Date | null;
  declare actor: string;
  declare created_at: CreationOptional<Date>;
  declare removed_at: Date | null;
}

export const defineDestination = (sequelize: Sequelize): typeof Destination =>
  class extends Destination {}.init(
    {
      id: uuid({ key: true }),
      name: text(),
      kind: text(),
      url: text(),
      authorities: text({ null: true }),
      sealed: bytes({ null: true }),
      project_id: uuid({ null: true, of: 'projects' }),
      environment: text({ null: true }),
      issue: json({ null: true }),
      tries: int({ made: true }),
      sent_lines: bigint({ made: true }),
      left_bytes: bigint({ made: true }),
      sent_at: time({ null: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true, made: true }),
      lease_until: time({ null: true }),
      actor: text(),
      created_at: time({ made: true }),
      removed_at: time({ null: true }),
    },
    { sequelize, modelName: 'Destination', tableName: 'destinations', timestamps: false },
  );
