/** Who is told of what, and how far that is. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { AlertTopic, ChannelKind, OwnTopic } from '../../../core/states.js';
import { bigint, bytes, json, text, texts, time, uuid } from '../columns.js';

export class Subscription extends Model<InferAttributes<Subscription>, InferCreationAttributes<Subscription>> {
  declare id: string;
  /** As people call it; of a code host and of a person's own: null. */
  declare name: string | null;
  declare channel: ChannelKind;
  declare topics: CreationOptional<(AlertTopic | OwnTopic)[]>;
  declare project_id: string | null;
  declare environment: string | null;
  /** Whose own it is about. */
  declare person_id: string | null;
  /** A mail address, or the address of a webhook; of a code host its project has it. */
  declare target: CreationOptional<string>;
  /** What its events are signed with. */
  declare sealed: Buffer | null;
  /** Number of the event up to which it was told what there is to tell. */
  declare after: CreationOptional<string>;
  declare issue: Issue | null;
  declare fence: CreationOptional<string>;
  declare due_at: Date | null;
  declare lease_until: Date | null;
  declare actor: string;
  declare created_at: CreationOptional<Date>;
  declare removed_at: Date | null;
}

export const defineSubscription = (sequelize: Sequelize): typeof Subscription =>
  class extends Subscription {}.init(
    {
      id: uuid({ key: true }),
      name: text({ null: true }),
      channel: text(),
      topics: texts({ made: true }),
      project_id: uuid({ null: true, of: 'projects' }),
      environment: text({ null: true }),
      person_id: uuid({ null: true, of: 'people' }),
      target: text({ made: true }),
      sealed: bytes({ null: true }),
      after: bigint({ made: true }),
      issue: json({ null: true }),
      fence: bigint({ made: true }),
      due_at: time({ null: true }),
      lease_until: time({ null: true }),
      actor: text(),
      created_at: time({ made: true }),
      removed_at: time({ null: true }),
    },
    { sequelize, modelName: 'Subscription', tableName: 'subscriptions', timestamps: false },
  );
