/** Plans and reasons. */
import { type Static, Type } from '@sinclair/typebox';
import { runStates, taskStates } from '../core/states.js';
import { Commit } from './projects.js';
import { Nullable, oneOf, Said } from './parts.js';

export const PlanView = Type.Object({
  commit: Commit,
  branch: Nullable(Type.String()),
  tasks: Type.Array(
    Type.Object({
      name: Type.String(),
      evidence: Type.Boolean(),
      needs: Type.Array(Type.String()),
      will: oneOf(['run', 'reuse'] as const),
      why: Nullable(Said),
      /** Milliseconds, from past passes; 0 when reused. */
      expectedMs: Nullable(Type.Integer()),
    }),
  ),
  /** The tasks that the time depends on. */
  path: Type.Array(Type.String()),
  /** Milliseconds with enough agents; null when a task on the path has no past. */
  expectedMs: Nullable(Type.Integer()),
});
export type PlanView = Static<typeof PlanView>;

const Difference = Type.Object({
  input: Type.String(),
  name: Nullable(Type.String()),
  before: Nullable(Type.String()),
  now: Nullable(Type.String()),
});
const Files = Type.Object({ paths: Type.Array(Type.String()), count: Type.Integer() });

export const WhyTaskView = Type.Object({
  task: Type.String(),
  run: Type.Integer(),
  state: oneOf(taskStates),
  issue: Nullable(Said),
  fingerprint: Nullable(Type.String()),
  flaky: Type.Boolean(),
  /** The run whose pass is reused. */
  reusedFrom: Nullable(Type.Integer()),
  inputs: Nullable(Type.Record(Type.String(), Type.Unknown())),
  comparedWith: Nullable(Type.Object({ run: Type.Integer(), state: oneOf(taskStates), fingerprint: Type.String() })),
  /** What differs from it, the most telling first. */
  differences: Type.Array(Type.Intersect([Difference, Type.Object({ files: Nullable(Files), says: Type.String() })])),
});
export type WhyTaskView = Static<typeof WhyTaskView>;

export const WhyRunView = Type.Object({
  run: Type.Integer(),
  state: oneOf(runStates),
  issue: Nullable(Said),
  failed: Type.Array(
    Type.Object({
      task: Type.String(),
      issue: Nullable(Said),
      attempt: Nullable(Type.String()),
      command: Nullable(
        Type.Object({ text: Type.String(), exit: Nullable(Type.Integer()), firstLine: Type.Integer() }),
      ),
      tests: Type.Array(
        Type.Object({
          name: Type.String(),
          group: Type.String(),
          message: Type.String(),
          place: Type.String(),
          standing: oneOf(['new', 'known', 'flaky'] as const),
          failedBefore: Type.Integer(),
          seenBefore: Type.Integer(),
        }),
      ),
    }),
  ),
  skipped: Type.Array(Type.String()),
  /** What has changed since the newest run that passed. */
  since: Nullable(
    Type.Object({
      run: Type.Integer(),
      commits: Type.Array(Commit),
      files: Files,
      tools: Type.Array(Difference),
      variables: Type.Array(Type.String()),
    }),
  ),
});
export type WhyRunView = Static<typeof WhyRunView>;

const SinceCommit = Type.Intersect([
  Commit,
  Type.Object({
    /** What the task came to there; null: nobody knows. */
    verdict: Nullable(oneOf(['good', 'bad', 'unclear'] as const)),
    run: Nullable(Type.Integer()),
    pull: Nullable(Type.Integer()),
  }),
]);

/** Which commit broke a task since a release. */
export const SinceView = Type.Object({
  task: Type.String(),
  release: Type.Integer(),
  /** The task's release was of this one. */
  from: Commit,
  head: Commit,
  /** Commits since, along first parents. */
  commits: Type.Integer(),
  /** `ask`: `next` has to be run. `found`: `first` broke it. `good`: it passes at the head. `unclear`: the head's runs don't tell. */
  state: oneOf(['ask', 'found', 'good', 'unclear'] as const),
  next: Nullable(SinceCommit),
  /** A run of `next` that goes on. */
  going: Nullable(Type.Integer()),
  /** Commits that may still be it, and runs that it takes at most. */
  left: Type.Integer(),
  steps: Type.Integer(),
  first: Nullable(SinceCommit),
  /** It may be one of these, too, which could not be judged. */
  doubt: Type.Array(SinceCommit),
});
export type SinceView = Static<typeof SinceView>;
