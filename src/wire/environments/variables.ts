/** Variables and secrets: what people set, and what a change would do. A secret's value goes in and never comes out. */
import { type Static, Type } from '@sinclair/typebox';
import { changesLimit, valueLimit } from '../../core/variables/change.js';
import { dotenvLimit } from '../../core/variables/dotenv.js';
import { Name, Nullable, oneOf, Said, Time } from '../parts.js';

const Variable = Type.String({ minLength: 1, maxLength: 100 });

export const VariableView = Type.Object({
  name: Type.String(),
  /** Null: for the whole project. */
  environment: Nullable(Type.String()),
  secret: Type.Boolean(),
  /** Null for a secret. */
  value: Nullable(Type.String()),
  version: Type.Integer(),
  by: Type.String(),
  at: Time,
});
export type VariableView = Static<typeof VariableView>;

/** What the newest definition of main takes, and where nobody has set it. */
export const WantedVariable = Type.Object({
  name: Type.String(),
  secret: Type.Boolean(),
  about: Nullable(Type.String()),
  default: Nullable(Type.String()),
  missing: Type.Array(Type.String()),
});
export type WantedVariable = Static<typeof WantedVariable>;

export const Variables = Type.Object({
  items: Type.Array(VariableView),
  wanted: Type.Array(WantedVariable),
  /** Names of environments for which something can be set. */
  environments: Type.Array(Type.String()),
});
export type Variables = Static<typeof Variables>;

export const VariableChangeBody = Type.Object(
  {
    environment: Nullable(Name),
    set: Type.Optional(
      Type.Array(
        Type.Object(
          { name: Variable, value: Type.String({ maxLength: valueLimit }), secret: Type.Optional(Type.Boolean()) },
          { additionalProperties: false },
        ),
        {
          maxItems: changesLimit,
        },
      ),
    ),
    remove: Type.Optional(Type.Array(Variable, { maxItems: changesLimit })),
    /** The text of a dotenv file. */
    text: Type.Optional(Type.String({ maxLength: dotenvLimit })),
    /** Names of the text that are secrets; default: those whose names speak of one. */
    secrets: Type.Optional(Type.Array(Variable, { maxItems: changesLimit })),
  },
  { additionalProperties: false },
);
export type VariableChangeBody = Static<typeof VariableChangeBody>;

export const VariableChanges = Type.Object({
  /** Null where nothing changes. */
  version: Nullable(Type.Integer()),
  changes: Type.Array(
    Type.Object({
      name: Type.String(),
      what: oneOf(['new', 'changed', 'same', 'removed'] as const),
      secret: Type.Boolean(),
    }),
  ),
  /** What is doubtful in a dotenv text. */
  issues: Type.Array(
    Type.Intersect([Said, Type.Object({ line: Type.Integer(), severity: oneOf(['error', 'warning'] as const) })]),
  ),
});
export type VariableChanges = Static<typeof VariableChanges>;
