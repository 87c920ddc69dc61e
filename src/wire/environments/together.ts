/** Releases of several projects that go to an environment of one name together, or none of them. */
import { type Static, Type } from '@sinclair/typebox';
import { deploymentStates, jointStates } from '../../core/states.js';
import { Nullable, Said, Time, closed, oneOf } from '../parts.js';

export const TogetherBody = Type.Object(
  {
    /** The name that the environment has in each of them. */
    environment: Type.String({ minLength: 1, maxLength: 60 }),
    /** `release`: left out, it is what the environment before has verified. */
    projects: Type.Array(
      Type.Object(
        {
          project: Type.String({ minLength: 1, maxLength: 60 }),
          release: Type.Optional(Type.Integer({ minimum: 1, maximum: 1_000_000_000 })),
        },
        closed,
      ),
      { minItems: 1, maxItems: 20 },
    ),
  },
  closed,
);
export type TogetherBody = Static<typeof TogetherBody>;

export const Together = Type.Object({
  /** `j3` */
  number: Type.Integer(),
  environment: Type.String(),
  actor: Type.String(),
  state: oneOf(jointStates),
  /** How it stands, in a sentence. */
  sentence: Type.String(),
  /** Why all of them are to go back; null: they are not. */
  back: Nullable(Said),
  /** Why none went, or all went back. */
  issue: Nullable(Said),
  createdAt: Time,
  stateSince: Time,
  members: Type.Array(
    Type.Object({
      project: Type.String(),
      release: Type.Integer(),
      deployment: Type.Integer(),
      /** Null: it is not there any more. */
      state: Nullable(oneOf(deploymentStates)),
      failure: Nullable(Said),
      /** What takes it back, where all are; null: nothing does. */
      revert: Nullable(Type.Object({ deployment: Type.Integer(), state: oneOf(deploymentStates) })),
    }),
  ),
});
export type Together = Static<typeof Together>;
