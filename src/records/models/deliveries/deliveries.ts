/** What was told, or is to be. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Item } from '../../../core/alerts/words.js';
import type { Issue } from '../../../core/errors/errors.js';
import type { DeliveryState } from '../../../core/states.js';
import { bigint, int, json, text, time, uuid } from '../columns.js';

export class Delivery extends Model<InferAttributes<Delivery>, InferCreationAttributes<Delivery>> {
  declare id: string;
  declare subscription_id: string;
  /** Of the first event that it tells. */
  declare number: string;
  declare items: Item[];
  declare state: CreationOptional<DeliveryState>;
  declare tries: CreationOptional<number>;
  declare issue: Issue | null;
  /** Not sent before. */
  declare not_before: CreationOptional<Date>;
  declare created_at: CreationOptional<Date>;
  declare ended_at: Date | null;
}

export const defineDelivery = (sequelize: Sequelize): typeof Delivery =>
  class extends Delivery {}.init(
    {
      id: uuid({ key: true }),
      subscription_id: uuid({ of: 'subscriptions' }),
      number: bigint(),
      items: json(),
      state: text({ made: true }),
      tries: int({ made: true }),
      issue: json({ null: true }),
      not_before: time({ made: true }),
      created_at: time({ made: true }),
      ended_at: time({ null: true }),
    },
    { sequelize, modelName: 'Delivery', tableName: 'deliveries', timestamps: false },
  );
