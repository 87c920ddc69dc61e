/** How delivery goes: deployments, the way of commits, failures, tasks, reuse, over weeks. */
import { type Static, Type } from '@sinclair/typebox';
import { closed, Nullable, oneOf, Time } from './parts.js';

/** Milliseconds; known to within 5 %. */
const Lengths = Type.Object({
  count: Type.Integer(),
  /** Half of them took at most this, nine of ten at most the other; null: there was none. */
  half: Nullable(Type.Number()),
  nineOfTen: Nullable(Type.Number()),
});
export type Lengths = Static<typeof Lengths>;

const over = <T extends ReturnType<typeof Type.Object>>(one: T) => Type.Object({ all: one, weeks: Type.Array(one) });

const Measures = Type.Object({
  deployments: Type.Integer(),
  /** Deployments that some of the traffic was led to; of them, those that failed; and those that failed before. */
  seen: Type.Integer(),
  failed: Type.Integer(),
  unseen: Type.Integer(),
  /** 0 to 1; null: nobody has seen any. */
  failedShare: Nullable(Type.Number()),
  lead: Lengths,
  pushed: Lengths,
  built: Lengths,
  waited: Lengths,
  brought: Lengths,
  restored: Lengths,
});
export type DeliveryMeasures = Static<typeof Measures>;

const Work = Type.Object({
  ran: Type.Integer(),
  reused: Type.Integer(),
  reusedShare: Nullable(Type.Number()),
  savedMs: Type.Number(),
  tookMs: Type.Number(),
  waited: Lengths,
});

export const Delivery = Type.Object({
  /** Null: all of them. */
  project: Nullable(Type.String()),
  /** Their Mondays, of UTC, the oldest first; the last one is not over. */
  weeks: Type.Array(Type.String()),
  at: Time,
  /** Runs that ended more than five minutes ago are still to be counted. */
  behind: Type.Boolean(),
  /** What each of them counts, in words. */
  definitions: Type.Record(Type.String(), Type.String()),
  delivery: over(Measures),
  work: over(Work),
  projects: Type.Array(Type.Object({ project: Type.String(), delivery: over(Measures), work: Work })),
  tasks: Type.Array(
    Type.Object({
      project: Type.String(),
      task: Type.String(),
      ran: Type.Integer(),
      failed: Type.Integer(),
      flaky: Type.Integer(),
      took: Lengths,
      tookMs: Type.Number(),
      /** Half of its attempts took at most this, a week each: milliseconds. */
      weeks: Type.Array(Nullable(Type.Number())),
      /** The later half of the weeks against the earlier one: 1.2 is a fifth longer. */
      trend: Nullable(Type.Number()),
    }),
  ),
  flaky: Type.Array(
    Type.Object({
      project: Type.String(),
      task: Type.String(),
      test: Type.String(),
      times: Type.Integer(),
      last: Type.String(),
    }),
  ),
});
export type Delivery = Static<typeof Delivery>;

const weeks = Type.Optional(Type.Integer({ minimum: 1, maximum: 53 }));
const project = Type.Optional(Type.String({ minLength: 1, maxLength: 60 }));

export const DeliveryQuery = Type.Object({ project, weeks }, closed);
export const deliveryTables = ['delivery', 'tasks', 'flaky'] as const;
export const DeliveryTableQuery = Type.Object({ project, weeks, of: Type.Optional(oneOf(deliveryTables)) }, closed);
