/** What environments cost, as people's calls take and give it. */
import { type Static, Type } from '@sinclair/typebox';
import { closed, Nullable, Time } from '../parts.js';

const price = Type.Number({ minimum: 0, maximum: 1_000_000 });
export const PricesBody = Type.Object(
  {
    currency: Type.String({ pattern: '^[A-Z]{3}$' }),
    /** Of one GiB for an hour. */
    memory: price,
    /** Of one core for an hour. */
    cpu: price,
  },
  closed,
);
export type PricesBody = Static<typeof PricesBody>;
export const PricesView = Type.Object({ ...PricesBody.properties, by: Type.String(), at: Time });

export const CostQuery = Type.Object({ project: Type.Optional(Type.String({ maxLength: 60 })) }, closed);
export const Cost = Type.Object({
  /** Null: no owner has set any, and nothing is reckoned. */
  prices: Nullable(PricesView),
  /** The month, and until when it is counted. */
  from: Time,
  counted: Time,
  until: Time,
  items: Type.Array(
    Type.Object({
      project: Type.String(),
      environment: Type.String(),
      /** GiB × hours, cores × hours. */
      memory: Type.Number(),
      cpu: Type.Number(),
      soFar: Nullable(Type.Number()),
      forecast: Nullable(Type.Number()),
      /** What the sleep of a review has saved; null: it is none. */
      asleep: Nullable(Type.Number()),
    }),
  ),
  /** Work that was not done again, at the price of one core. */
  saved: Type.Array(
    Type.Object({
      project: Type.String(),
      tasks: Type.Integer(),
      hours: Type.Number(),
      amount: Nullable(Type.Number()),
    }),
  ),
});
export type Cost = Static<typeof Cost>;
