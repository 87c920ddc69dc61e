/** Reviews: what is open for pull requests and branches, as a list shows it. */
import { type Static, Type } from '@sinclair/typebox';
import { Nullable } from '../parts.js';
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
  /** The commit that waits until somebody allows it; null: none does. */
  allow: Nullable(Type.String()),
});
export type Review = Static<typeof Review>;
