/** What has happened, for good. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import { bigint, json, text, time, uuid, xid } from '../columns.js';

export class Event extends Model<InferAttributes<Event>, InferCreationAttributes<Event>> {
  declare id: string;
  declare xid: CreationOptional<string>;
  declare number: string | null;
  declare type: string;
  declare project_id: string | null;
  declare subject: string;
  declare actor: string;
  declare data: CreationOptional<Record<string, unknown>>;
  declare at: CreationOptional<Date>;
}

export const defineEvent = (sequelize: Sequelize): typeof Event =>
  class extends Event {}.init(
    {
      id: bigint({ key: true }),
      xid: xid({ made: true }),
      number: bigint({ null: true }),
      type: text(),
      project_id: uuid({ null: true, of: 'projects' }),
      subject: text(),
      actor: text(),
      data: json({ made: true }),
      at: time({ made: true }),
    },
    { sequelize, modelName: 'Event', tableName: 'events', timestamps: false },
  );
