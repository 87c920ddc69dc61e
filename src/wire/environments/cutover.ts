/** Traffic that moves in steps, as people's calls take and give it. */
import { type Static, Type } from '@sinclair/typebox';
import { cutoverFigures } from '../../core/cutover/verdict.js';
import { Nullable, Said, Time, closed, oneOf } from '../parts.js';
import { Deployment } from './environments.js';
import { CutoverStepView } from './rules.js';

const Side = Type.Object({ units: Type.Integer(), bad: Type.Integer() });

/** A value a point of ten seconds: requests a second, the share of errors, milliseconds; null: nothing is known. */
const Lines = Type.Object({
  requests: Type.Array(Nullable(Type.Number())),
  errors: Type.Array(Nullable(Type.Number())),
  p95: Type.Array(Nullable(Type.Number())),
});

export const Cutover = Type.Object({
  project: Type.String(),
  environment: Type.String(),
  deployment: Deployment,
  /** What it is beside: null, it is gone. */
  beside: Nullable(Type.Object({ deployment: Type.Integer(), release: Type.Integer() })),
  /** All of its steps; `share` 0 to 1, `ms` for how long (null: until somebody decides). The last one is all of the traffic. */
  steps: Type.Array(CutoverStepView),
  /** Index of the step that it is in; null: it has gone back. */
  step: Nullable(Type.Integer()),
  /** Counts the steps: whoever orders says which one they have seen. */
  stage: Type.Integer(),
  since: Time,
  share: Type.Number(),
  /** Milliseconds of this step, and of all, that are left where nobody says anything; null: it stays until somebody decides. */
  stepLeftMs: Nullable(Type.Integer()),
  leftMs: Nullable(Type.Integer()),
  ordered: Nullable(Type.Object({ order: oneOf(['stay', 'go on', 'back'] as const), by: Type.String() })),
  /** Why it stays though its time is over. */
  waits: Nullable(Said),
  worse: Nullable(Said),
  /** Both have a share until somebody ends that. */
  split: Type.Boolean(),
  /** Which of the two does better: the other one has shown a sign that it is worse. */
  better: Nullable(oneOf(['now', 'old'] as const)),
  /** There was enough traffic to judge it by. */
  enough: Type.Boolean(),
  guard: Nullable(
    Type.Object({
      errors: Nullable(Type.Number()),
      p95Ms: Nullable(Type.Number()),
      few: oneOf(['wait', 'continue'] as const),
    }),
  ),
  /** Until when bounds hold, where all of the traffic has moved. */
  watchedUntil: Nullable(Time),
  tests: Type.Array(
    Type.Object({
      figure: oneOf(cutoverFigures),
      part: Type.String(),
      /** Of a group of paths; empty: all of the part. */
      path: Type.String(),
      old: Side,
      now: Side,
      /** How far it is to a sign that it is worse, 0 to 1. */
      towards: Type.Number(),
      /** Times as bad that would have been seen with 99 of 100; null: none that is looked for. */
      wouldSee: Nullable(Type.Number()),
      /** Where nothing was bad so far: the share of the new side that would be a sign, 0 to 1. */
      signAt: Nullable(Type.Number()),
    }),
  ),
  /** Copies of requests, and what came of them; null: there were none. */
  mirrored: Nullable(
    Type.Object({
      compared: Type.Integer(),
      dropped: Type.Integer(),
      rested: Type.Integer(),
      oldErrors: Type.Integer(),
      nowErrors: Type.Integer(),
      status: Type.Integer(),
      kind: Type.Integer(),
      length: Type.Integer(),
      same: Type.Integer(),
      differ: Type.Integer(),
      /** Milliseconds; null: nothing is known. */
      oldP95: Nullable(Type.Number()),
      nowP95: Nullable(Type.Number()),
    }),
  ),
  from: Time,
  widthMs: Type.Integer(),
  lines: Type.Object({ now: Lines, old: Nullable(Lines) }),
});
export type Cutover = Static<typeof Cutover>;

/** `stage`: the step that was seen. */
export const CutoverOrder = Type.Object(
  { order: oneOf(['stay', 'go on', 'back'] as const), stage: Type.Optional(Type.Integer({ minimum: 1 })) },
  closed,
);

/** One side for whoever has this: a header of a request, or a link for a browser. */
export const FirstLook = Type.Object({
  release: Type.Integer(),
  /** Value of the header `Tsunagi-Release`. */
  header: Type.String(),
  link: Type.String(),
  until: Time,
});
export type FirstLook = Static<typeof FirstLook>;

export const FirstLookQuery = Type.Object({ release: Type.Optional(Type.Integer({ minimum: 1 })) }, closed);
