/** Alerts, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { alertTopics, channelKinds, deliveryStates, ownTopics } from '../core/states.js';
import { closed, Id, Name, Nullable, oneOf, Said, Time } from './parts.js';

/** Something that is wrong now. */
export const OpenCondition = Type.Object({
  topic: oneOf(alertTopics),
  place: Type.String(),
  of: Type.String(),
  says: Type.String(),
  since: Time,
  /** Whoever wanted to know was told. */
  told: Type.Boolean(),
});

export const Alert = Type.Object({
  name: Nullable(Type.String()),
  channel: oneOf(channelKinds),
  target: Type.String(),
  topics: Type.Array(Type.String()),
  project: Nullable(Type.String()),
  environment: Nullable(Type.String()),
  by: Type.String(),
  createdAt: Time,
  /** Why what it has to tell is not told. */
  issue: Nullable(Said),
});
export type Alert = Static<typeof Alert>;

export const AlertPage = Type.Object({ items: Type.Array(Alert), next: Type.Null(), wrong: Type.Array(OpenCondition) });
export type AlertPage = Static<typeof AlertPage>;

export const DeliveryView = Type.Object({
  id: Id,
  state: oneOf(deliveryStates),
  subject: Type.String(),
  count: Type.Integer(),
  tries: Type.Integer(),
  issue: Nullable(Said),
  createdAt: Time,
  endedAt: Nullable(Time),
});
export const AlertDetail = Type.Intersect([Alert, Type.Object({ deliveries: Type.Array(DeliveryView) })]);
export type AlertDetail = Static<typeof AlertDetail>;

const target = {
  mail: Type.Optional(Type.String({ maxLength: 254 })),
  webhook: Type.Optional(Type.String({ maxLength: 1_000 })),
};
export const AlertBody = Type.Object(
  {
    name: Name,
    ...target,
    /** Left out: all of them. */
    topics: Type.Optional(Type.Array(Type.String({ maxLength: 40 }), { minItems: 1, maxItems: 20 })),
    project: Type.Optional(Name),
    environment: Type.Optional(Type.String({ maxLength: 60 })),
  },
  closed,
);
export type AlertBody = Static<typeof AlertBody>;

/** The secret of a webhook is shown this once. */
export const AddedAlert = Type.Intersect([
  Alert,
  Type.Object({ secret: Nullable(Type.String()), test: Type.String() }),
]);
export type AddedAlert = Static<typeof AddedAlert>;

export const AlertTest = Type.Object({ accepted: Type.Boolean(), says: Type.String() });
export type AlertTest = Static<typeof AlertTest>;

/** What one wants to be told of one's own; without topics: nothing. */
export const OwnAlertBody = Type.Object(
  { ...target, topics: Type.Array(oneOf(ownTopics), { maxItems: ownTopics.length }) },
  closed,
);
export type OwnAlertBody = Static<typeof OwnAlertBody>;
export const OwnAlert = Type.Object({ alert: Nullable(Alert), secret: Nullable(Type.String()) });
export type OwnAlert = Static<typeof OwnAlert>;
