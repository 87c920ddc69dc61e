/** Reviews: what is open for pull requests and branches, as a list shows it. */
import { type Static, Type } from '@sinclair/typebox';
import { closed, Id, Nullable, Time } from '../parts.js';
import { Run } from '../runs.js';
import { Environment } from './environments.js';

export const Review = Type.Object({
  project: Type.String(),
  /** `pr-214`, `on-winter`: the name of its environment, whether it has one or not. */
  name: Type.String(),
  /** Of a review without a pull request. */
  branch: Nullable(Type.String()),
  pullRequest: Nullable(
    Type.Object({
      number: Type.Integer(),
      title: Type.String(),
      base: Type.String(),
      /** By somebody who may write there. */
      trusted: Type.Boolean(),
      draft: Type.Boolean(),
    }),
  ),
  /** Null where it has none: drafts may get none, and a stranger's waits for somebody. */
  environment: Nullable(Environment),
  /** The newest run of it. */
  run: Nullable(Run),
  /** Tests of that run; null where none told any. */
  tests: Nullable(Type.Object({ passed: Type.Integer(), failed: Type.Integer(), failing: Nullable(Type.String()) })),
  /** What its databases began as copies of; `of`: the moment of the data, null where it began empty, or waits. */
  data: Type.Array(Type.Object({ name: Type.String(), copy: Type.String(), of: Nullable(Time) })),
  /** The commit that waits until somebody allows it; null: none does. */
  allow: Nullable(Type.String()),
});
export type Review = Static<typeof Review>;

/** A link by which somebody looks at a review. */
export const ReviewLink = Type.Object({
  id: Id,
  by: Type.String(),
  createdAt: Time,
  until: Time,
  usedAt: Nullable(Time),
});
export type ReviewLink = Static<typeof ReviewLink>;

/** The same as it is made: its address is shown this once. */
export const MadeLink = Type.Object({ ...ReviewLink.properties, url: Type.String() });
export type MadeLink = Static<typeof MadeLink>;

/** Milliseconds for which it is good: from a minute to 90 days. */
export const MakeLink = Type.Object({ ms: Type.Integer({ minimum: 60_000, maximum: 90 * 86_400_000 }) }, closed);

/** Which one, by its id or the end of that; default: all of the review. */
export const EndLinks = Type.Object({ link: Type.Optional(Type.String({ pattern: '^[0-9a-f-]{8,36}$' })) }, closed);
export const EndedLinks = Type.Object({ count: Type.Integer() });
export type EndedLinks = Static<typeof EndedLinks>;

/** A browser wants to look at a review: where that is, what it was given there when it set out (as a hash), and where it was. */
export const GateBody = Type.Object(
  {
    host: Type.String({ minLength: 1, maxLength: 300 }),
    door: Type.String({ pattern: '^[A-Za-z0-9_-]{43}$' }),
    to: Type.String({ maxLength: 2_000 }),
  },
  closed,
);
/** The way back, good once and for a minute. */
export const GateWay = Type.Object({ url: Type.String() });
export type GateWay = Static<typeof GateWay>;
