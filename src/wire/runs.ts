/** Runs, tasks and attempts, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { attemptStates, runStates, taskStates } from '../core/states.js';
import { Digest, Id, Nullable, Said, Name, Time, closed, oneOf } from './parts.js';
import { Commit } from './projects.js';
import { Tests } from './rooms/work.js';

export const Run = Type.Object({
  project: Type.String(),
  number: Type.Integer(),
  state: oneOf(runStates),
  commit: Commit,
  branch: Nullable(Type.String()),
  pullRequest: Nullable(Type.Integer()),
  cause: Type.String(),
  actor: Type.String(),
  allowed: Type.Boolean(),
  issue: Nullable(Said),
  tasks: Type.Object({ total: Type.Integer(), ended: Type.Integer() }),
  release: Nullable(Type.Integer()),
  createdAt: Time,
  startedAt: Nullable(Time),
  endedAt: Nullable(Time),
  /** From past runs; null when there are none. */
  expectedMs: Nullable(Type.Integer()),
});
export type Run = Static<typeof Run>;

export const Command = Type.Object({
  text: Type.String(),
  state: oneOf(attemptStates),
  exit: Nullable(Type.Integer()),
  ms: Nullable(Type.Integer()),
  startedAt: Time,
  firstLine: Type.Integer(),
});
export type Command = Static<typeof Command>;

export const Attempt = Type.Object({
  id: Id,
  number: Type.Integer(),
  state: oneOf(attemptStates),
  issue: Nullable(Said),
  agent: Nullable(Type.String()),
  startedAt: Nullable(Time),
  endedAt: Nullable(Time),
  logLines: Type.Integer(),
  commands: Type.Array(Command),
});
export type Attempt = Static<typeof Attempt>;

export const Task = Type.Object({
  name: Type.String(),
  state: oneOf(taskStates),
  evidence: Type.Boolean(),
  needs: Type.Array(Type.String()),
  issue: Nullable(Said),
  fingerprint: Nullable(Type.String()),
  /** It failed before it passed, with the same inputs. */
  flaky: Type.Boolean(),
  /** It tells its coverage. */
  covers: Type.Boolean(),
  shard: Nullable(Type.Object({ index: Type.Integer(), count: Type.Integer() })),
  /** The run whose pass counts for it. */
  reusedFrom: Nullable(Type.Integer()),
  output: Nullable(Type.Object({ digest: Digest, size: Type.Integer() })),
  tests: Nullable(Tests),
  files: Type.Integer(),
  startedAt: Nullable(Time),
  endedAt: Nullable(Time),
  expectedMs: Nullable(Type.Integer()),
  attempts: Type.Array(Attempt),
});
export type Task = Static<typeof Task>;

export const RunDetail = Type.Intersect([
  Run,
  Type.Object({
    /** Why its ready tasks are not taken. */
    waits: Nullable(Said),
    /** When its logs and outputs were let go. */
    trimmedAt: Nullable(Time),
    warnings: Type.Array(Said),
    definitionIssues: Type.Array(Type.Intersect([Said, Type.Object({ line: Type.Integer(), column: Type.Integer() })])),
    taskList: Type.Array(Task),
  }),
]);
export type RunDetail = Static<typeof RunDetail>;

export const StartRun = Type.Object(
  {
    ref: Type.String({ minLength: 1, maxLength: 250 }),
    /** false: no earlier pass counts. */
    reuse: Type.Optional(Type.Boolean()),
    /** Tasks of which no earlier pass counts. */
    tasks: Type.Optional(Type.Array(Name, { minItems: 1, maxItems: 100 })),
  },
  closed,
);
export type StartRun = Static<typeof StartRun>;

/** A branch from what is live in an environment. */
export const FromLiveBody = Type.Object(
  { branch: Type.Optional(Type.String({ minLength: 1, maxLength: 200 })) },
  closed,
);
export const FromLive = Type.Object({
  environment: Type.String(),
  release: Type.Integer(),
  commit: Commit,
  branch: Type.String(),
  /** `elsewhere`: commits come from a host, which alone makes branches. */
  how: oneOf(['made', 'there', 'elsewhere'] as const),
});
export type FromLive = Static<typeof FromLive>;

export const RunAgain = Type.Object({ task: Type.Optional(Name) }, closed);

const Count = Type.Object({ found: Type.Integer(), hit: Type.Integer() });
/** What tests cover: of all lines that can be run, and of those that the change touches. */
export const RunCoverage = Type.Object({
  /** The commit that the change is told against; null for a first commit. */
  base: Nullable(Type.String()),
  tasks: Type.Array(
    Type.Object({
      task: Type.String(),
      ...Count.properties,
      changed: Nullable(
        Type.Object({
          ...Count.properties,
          /** Lines as rising ranges: `1-5,7`. */
          files: Type.Array(Type.Object({ path: Type.String(), hit: Type.String(), missed: Type.String() })),
        }),
      ),
    }),
  ),
});
export type RunCoverage = Static<typeof RunCoverage>;
