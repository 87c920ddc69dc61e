/** What people's calls take and give. Times are ISO 8601 in UTC, lengths milliseconds, sizes bytes. */
import { type Static, type TSchema, Type } from '@sinclair/typebox';
import {
  deploymentKinds,
  deploymentStates,
  environmentStates,
  healths,
  instanceStates,
  partKinds,
  roles,
  runStates,
  sourceKinds,
  takesKinds,
  taskStates,
  attemptStates,
} from '../core/states.js';
import { CredentialBody, Digest, Id, Name, Nullable, oneOf, Said, Time } from './parts.js';
import { Tests } from './work.js';

export type { Said };

const closed = { additionalProperties: false };

export const Problem = Type.Object({
  type: Type.String(),
  title: Type.String(),
  status: Type.Integer(),
  detail: Type.String(),
  code: Type.String(),
  next: Type.String(),
  retry: Type.Boolean(),
  data: Type.Optional(Type.Record(Type.String(), Type.Unknown())),
});
export type Problem = Static<typeof Problem>;

export const Me = Type.Object({ name: Type.String(), role: oneOf(roles), project: Nullable(Type.String()) });
export type Me = Static<typeof Me>;
export const SignIn = Type.Object({ code: Type.Optional(Type.String({ maxLength: 200 })), token: Type.Optional(Type.String({ maxLength: 200 })) }, closed);

export const Commit = Type.Object({ id: Type.String(), title: Type.String(), author: Type.String(), at: Time });
export type Commit = Static<typeof Commit>;

export const Project = Type.Object({
  name: Type.String(),
  source: oneOf(sourceKinds),
  mainBranch: Type.String(),
  folder: Type.String(),
  url: Nullable(Type.String()),
  /** Where a hosted project is pushed to, or where a notified one's events go. */
  endpoint: Type.String(),
  definitionCommit: Nullable(Type.String()),
  /** A draft is kept for commits without a definition. */
  draft: Type.Boolean(),
  paused: Type.Boolean(),
  /** A picture of how its main branch stands (`&branch=` for another), for anybody who has this address. */
  badge: Type.String(),
  /** Where the states of its runs are told, and why that fails. */
  statuses: Nullable(Type.String()),
  statusIssue: Nullable(Said),
  /** A credential is kept for its source. */
  credential: Type.Boolean(),
  /** Why the last look at its source failed. */
  issue: Nullable(Said),
});
export type Project = Static<typeof Project>;
export const NewProject = Type.Object(
  {
    name: Name,
    source: oneOf(sourceKinds),
    mainBranch: Type.Optional(Type.String({ minLength: 1, maxLength: 200 })),
    folder: Type.Optional(Type.String({ maxLength: 400 })),
    url: Type.Optional(Type.String({ maxLength: 2000 })),
    credential: Type.Optional(CredentialBody),
    /** Its address may lead into private networks. */
    allowPrivate: Type.Optional(Type.Boolean()),
    /** The definition of commits that have none of their own. */
    draft: Type.Optional(Type.String({ maxLength: 256 * 1024 })),
  },
  closed,
);
export type NewProject = Static<typeof NewProject>;
/** The secret is shown this once. */
export const AddedProject = Type.Intersect([Project, Type.Object({ eventSecret: Nullable(Type.String()) })]);
export type AddedProject = Static<typeof AddedProject>;

export const Person = Type.Object({ name: Type.String(), role: oneOf(roles), addedAt: Time });
export type Person = Static<typeof Person>;
export const NewPerson = Type.Object({ name: Type.String({ pattern: '^[\\p{L}\\p{N}][\\p{L}\\p{N} ._-]{0,59}$' }), role: oneOf(roles) }, closed);
/** The one-time sign-in is shown this once. */
export const AddedPerson = Type.Intersect([Person, Type.Object({ signIn: Type.String(), expiresAt: Time })]);
export type AddedPerson = Static<typeof AddedPerson>;
export const RoleBody = Type.Object({ role: oneOf(roles) }, closed);
export const Removal = Type.Object({
  environments: Type.Array(Type.String()),
  addresses: Type.Array(Type.String()),
  runs: Type.Integer(),
  releases: Type.Integer(),
  variables: Type.Integer(),
});
export type Removal = Static<typeof Removal>;

const PortRange = Type.Object({ from: Type.Integer({ minimum: 1024, maximum: 65_535 }), to: Type.Integer({ minimum: 1024, maximum: 65_535 }) }, closed);

export const Token = Type.Object({
  id: Id,
  kind: Type.String(),
  name: Type.String(),
  role: Nullable(oneOf(roles)),
  project: Nullable(Type.String()),
  createdAt: Time,
  expiresAt: Nullable(Time),
  usedAt: Nullable(Time),
  /** For agents. */
  takes: Nullable(Type.Array(Type.String())),
  address: Nullable(Type.String()),
  ports: Nullable(PortRange),
});
export type Token = Static<typeof Token>;

/** Where somebody is signed in. */
export const Session = Type.Object({
  id: Id,
  person: Type.String(),
  /** What the browser says of itself. */
  client: Type.String(),
  begunAt: Time,
  seenAt: Time,
  expiresAt: Time,
  /** The one that asks. */
  own: Type.Boolean(),
});
export type Session = Static<typeof Session>;

export const NewToken = Type.Object(
  {
    name: Type.String({ minLength: 1, maxLength: 80 }),
    kind: Type.Optional(oneOf(['person', 'agent', 'edge'] as const)),
    role: Type.Optional(oneOf(roles)),
    project: Type.Optional(Name),
    /** For agents: what they may take (default runs and untrusted), where edges reach their instances, and by which ports. */
    takes: Type.Optional(Type.Array(oneOf(takesKinds), { minItems: 1, uniqueItems: true })),
    address: Type.Optional(Type.String({ minLength: 1, maxLength: 100, pattern: '^[0-9a-zA-Z.:-]+$' })),
    ports: Type.Optional(PortRange),
    days: Type.Optional(Type.Integer({ minimum: 1, maximum: 3650 })),
    /** Another way to say it, in milliseconds. */
    expiresInMs: Type.Optional(Type.Integer({ minimum: 1000, maximum: 315_360_000_000 })),
  },
  closed,
);
export type NewTokenBody = Static<typeof NewToken>;
export const AddedToken = Type.Intersect([Token, Type.Object({ token: Type.String() })]);
export type AddedToken = Static<typeof AddedToken>;

export const Found = Type.Object({
  kind: oneOf(['project', 'environment', 'run', 'release'] as const),
  project: Type.String(),
  name: Type.String(),
  about: Type.String(),
  state: Nullable(Type.String()),
  /** Where the console shows it. */
  page: Type.String(),
});
export type Found = Static<typeof Found>;

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
const TaskName = Type.String({ pattern: '^[a-z][a-z0-9-]{0,39}$' });
export const StartRun = Type.Object(
  {
    ref: Type.String({ minLength: 1, maxLength: 250 }),
    /** false: no earlier pass counts. */
    reuse: Type.Optional(Type.Boolean()),
    /** Tasks of which no earlier pass counts. */
    tasks: Type.Optional(Type.Array(TaskName, { minItems: 1, maxItems: 100 })),
  },
  closed,
);
export type StartRun = Static<typeof StartRun>;
export const RunAgain = Type.Object({ task: Type.Optional(TaskName) }, closed);

export const PartView = Type.Object({ name: Type.String(), kind: oneOf(partKinds), digest: Digest, size: Type.Integer() });
export const Evidence = Type.Object({
  kind: Type.String(),
  name: Type.String(),
  source: Type.String(),
  digest: Digest,
  detail: Type.Record(Type.String(), Type.Unknown()),
  at: Time,
});
export const Release = Type.Object({
  project: Type.String(),
  number: Type.Integer(),
  digest: Digest,
  commit: Commit,
  branch: Nullable(Type.String()),
  pullRequest: Nullable(Type.Integer()),
  run: Type.Integer(),
  parts: Type.Array(PartView),
  createdAt: Time,
});
export type Release = Static<typeof Release>;
export const ReleaseDetail = Type.Intersect([Release, Type.Object({ evidence: Type.Array(Evidence) })]);
export type ReleaseDetail = Static<typeof ReleaseDetail>;

export const Deployment = Type.Object({
  project: Type.String(),
  environment: Type.String(),
  number: Type.Integer(),
  release: Type.Integer(),
  commit: Commit,
  kind: oneOf(deploymentKinds),
  actor: Type.String(),
  state: oneOf(deploymentStates),
  failure: Nullable(Said),
  definitionCommit: Nullable(Type.String()),
  createdAt: Time,
  liveAt: Nullable(Time),
  endedAt: Nullable(Time),
  warmUntil: Nullable(Time),
});
export type Deployment = Static<typeof Deployment>;

export const Instance = Type.Object({
  id: Id,
  deployment: Type.Integer(),
  part: Type.String(),
  kind: Type.String(),
  position: Type.Integer(),
  state: oneOf(instanceStates),
  wanted: Type.Boolean(),
  restarts: Type.Integer(),
  agent: Nullable(Type.String()),
  port: Nullable(Type.Integer()),
  exit: Nullable(Type.Integer()),
  issue: Nullable(Said),
  createdAt: Time,
  readyAt: Nullable(Time),
  endedAt: Nullable(Time),
});
export type Instance = Static<typeof Instance>;

export const Environment = Type.Object({
  project: Type.String(),
  name: Type.String(),
  kind: oneOf(['standing', 'review'] as const),
  state: oneOf(environmentStates),
  health: oneOf(healths),
  held: Nullable(Type.Object({ by: Type.String(), why: Type.String() })),
  url: Type.String(),
  after: Nullable(Type.String()),
  branch: Nullable(Type.String()),
  verifies: Type.Boolean(),
  pullRequest: Nullable(Type.Object({ number: Type.Integer(), title: Type.String() })),
  live: Nullable(Deployment),
  /** The live release was verified here. */
  verified: Type.Boolean(),
  /** The deployment that has the traffic, where it is not the live one. */
  serving: Nullable(Deployment),
  moving: Nullable(Deployment),
  /** The newest deployment, when it failed. */
  failed: Nullable(Deployment),
  instances: Type.Object({ asked: Type.Integer(), ready: Type.Integer() }),
  /** What waits to be promoted here. */
  waits: Nullable(Type.Object({ release: Type.Integer(), commits: Type.Integer(), allowed: Type.Boolean(), why: Nullable(Type.String()) })),
  /** Variables that were changed since the live deployment and count with the next one. */
  changes: Type.Array(Type.String()),
  /** Why it takes nothing by itself. */
  issue: Nullable(Said),
});
export type Environment = Static<typeof Environment>;
export const EnvironmentDetail = Type.Intersect([
  Environment,
  Type.Object({
    parts: Type.Array(Type.Object({ name: Type.String(), kind: oneOf(partKinds), at: Nullable(Type.String()), digest: Digest })),
    instanceList: Type.Array(Instance),
    history: Type.Array(Deployment),
    revertsTo: Nullable(Type.Integer()),
    delays: Nullable(Type.String()),
  }),
]);
export type EnvironmentDetail = Static<typeof EnvironmentDetail>;

export const Promotion = Type.Object({
  environment: Type.String(),
  project: Type.String(),
  release: Release,
  live: Nullable(Release),
  after: Nullable(Type.String()),
  allowed: Type.Boolean(),
  refusal: Nullable(Said),
  checks: Type.Array(Type.Object({ rule: Type.String(), met: Type.Boolean(), says: Type.String(), source: Nullable(Type.String()) })),
  commits: Type.Array(Commit),
  /** Whether live is an ancestor: false when going there takes commits away. */
  removed: Type.Array(Commit),
  parts: Type.Array(Type.Object({ name: Type.String(), from: Nullable(Type.String()), to: Nullable(Type.String()) })),
  sentence: Type.String(),
});
export type Promotion = Static<typeof Promotion>;

export const Ask = Type.Object({ kind: oneOf(['deploy', 'promote', 'revert'] as const), release: Type.Optional(Type.Integer({ minimum: 1 })) }, closed);
export const Hold = Type.Object({ why: Type.Optional(Type.String({ maxLength: 300 })) }, closed);

export const Board = Type.Object({
  projects: Type.Array(
    Type.Object({
      name: Type.String(),
      source: Type.String(),
      mainBranch: Type.String(),
      run: Nullable(Run),
      /** Standing environments in the order of the thread. */ environments: Type.Array(Environment),
      reviews: Type.Array(Environment),
      issue: Nullable(Said),
    }),
  ),
  agents: Type.Object({ total: Type.Integer(), alive: Type.Integer() }),
  edges: Type.Object({ total: Type.Integer(), alive: Type.Integer() }),
});
export type Board = Static<typeof Board>;

export const AgentView = Type.Object({
  name: Type.String(),
  /** What it takes of what its token allows: `runs`, `untrusted`, `live`. */
  takes: Type.Array(Type.String()),
  slots: Type.Integer(),
  address: Type.String(),
  tools: Type.Record(Type.String(), Type.String()),
  base: Type.String(),
  sandbox: Type.Record(Type.String(), Type.Unknown()),
  seenAt: Time,
  alive: Type.Boolean(),
  /** Why it takes nothing new. */
  full: Nullable(Said),
});
export type AgentView = Static<typeof AgentView>;

/** CloudEvents 1.0. `sequence` is the number that cursors use. */
export const Event = Type.Object({
  specversion: Type.Literal('1.0'),
  id: Type.String(),
  source: Type.String(),
  type: Type.String(),
  subject: Type.String(),
  time: Time,
  sequence: Type.String(),
  datacontenttype: Type.Literal('application/json'),
  data: Type.Record(Type.String(), Type.Unknown()),
});
export type Event = Static<typeof Event>;

/** Whether the events are as they were sealed. */
export const EventCheck = Type.Object({
  /** Seals that fit. */
  seals: Type.Integer(),
  /** Sealed up to this event; the newest one there is. */
  upTo: Type.String(),
  newest: Type.String(),
  wrong: Type.Union([Type.Object({ first: Type.String(), last: Type.String() }), Type.Null()]),
});
export type EventCheck = Static<typeof EventCheck>;

export const LogChunk = Type.Object({
  position: Type.Integer(),
  command: Type.Integer(),
  firstLine: Type.Integer(),
  text: Type.String(),
  /** What is left out right before it: the log was longer than is kept. */
  skipped: Nullable(Type.Object({ lines: Type.Integer(), bytes: Type.Integer() })),
});
export type LogChunk = Static<typeof LogChunk>;
export const FoundLines = Type.Object({
  found: Type.Array(Type.Object({ line: Type.Integer(), text: Type.String() })),
  /** The line to go on with, or null at the end. */
  next: Nullable(Type.Integer()),
});
export type FoundLines = Static<typeof FoundLines>;

export const Page = <T extends TSchema>(item: T) => Type.Object({ items: Type.Array(item), next: Nullable(Type.String()) });
export interface PageOf<T> {
  items: T[];
  next: string | null;
}
export const PageQuery = { cursor: Type.Optional(Type.String({ maxLength: 100 })), limit: Type.Optional(Type.Integer({ minimum: 1, maximum: 200 })) };
