/** The rules of an environment, approvals and freezes, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { ruleStates } from '../../core/rules/rules.js';
import { Nullable, Time, closed, oneOf } from '../parts.js';

/** How a rule stands, and what would change it. */
export const Rule = Type.Object({
  rule: Type.String(),
  state: oneOf(ruleStates),
  says: Type.String(),
  /** Where the evidence is: `run 130`, `d17`. */
  source: Nullable(Type.String()),
  change: Nullable(Type.String()),
  /** Of one that waits. */
  until: Nullable(Time),
  /** Of one that needs somebody. */
  whom: Nullable(Type.String()),
});
export type Rule = Static<typeof Rule>;

export const Freeze = Type.Object({ by: Type.String(), why: Type.String(), until: Time });

/** What counts, what main declares that does not count yet, and when nothing is taken. */
export const EnvironmentRules = Type.Object({
  project: Type.String(),
  environment: Type.String(),
  after: Nullable(Type.String()),
  /** What is taken was verified there. */
  verified: Type.Boolean(),
  /** Milliseconds in good health there; 0: none. */
  healthyMs: Type.Integer(),
  approvals: Type.Integer(),
  automatic: Type.Boolean(),
  frozen: Type.Array(Type.String()),
  freeze: Nullable(Freeze),
  /** Hours of the coming five weeks in which nothing is taken, by their beginning. */
  calendar: Type.Array(Type.Object({ from: Time, until: Time, text: Type.String() })),
  /** Less than what counts: it waits for a releaser who accepts it. */
  loosened: Type.Array(Type.Object({ rule: Type.String(), says: Type.String() })),
  /** Commit of the definition that declares this; null: there is none. */
  definition: Nullable(Type.String()),
});
export type EnvironmentRules = Static<typeof EnvironmentRules>;

export const AcceptRules = Type.Object({ commit: Type.String({ pattern: '^[0-9a-f]{40}([0-9a-f]{24})?$' }) }, closed);

/** A step of the traffic; `share` 0 to 1, `ms` for how long. The last one is all of the traffic. */
export const CutoverStepView = Type.Object({
  at: oneOf(['mirror', 'share', 'all'] as const),
  share: Type.Number(),
  ms: Nullable(Type.Integer()),
});
export type CutoverStepView = Static<typeof CutoverStepView>;

/** At most a year from now. */
export const FreezeBody = Type.Object(
  {
    why: Type.String({ minLength: 1, maxLength: 300, pattern: '\\S' }),
    until: Type.String({ format: 'date-time' }),
  },
  closed,
);

/** `withdraw`: the caller's own is taken back. */
export const ApproveBody = Type.Object(
  { release: Type.Integer({ minimum: 1 }), withdraw: Type.Optional(Type.Boolean()) },
  closed,
);

export const Approvals = Type.Object({
  release: Type.Integer(),
  environment: Type.String(),
  needed: Type.Integer(),
  given: Type.Array(
    Type.Object({
      by: Type.String(),
      at: Time,
      /** They have written some of what it brings. */
      author: Type.Boolean(),
      counts: Type.Boolean(),
      /** Why it does not. */
      why: Nullable(oneOf(['withdrawn', 'role', 'bytes'] as const)),
    }),
  ),
});
export type Approvals = Static<typeof Approvals>;
