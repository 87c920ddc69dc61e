/** Environments, deployments, instances, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import {
  attemptStates,
  deploymentKinds,
  deploymentStates,
  environmentStates,
  healths,
  instanceStates,
  partKinds,
  reviewAccesses,
  sleepDepths,
} from '../../core/states.js';
import { Address } from './addresses.js';
import { Digest, Id, Name, Nullable, Said, Time, closed, oneOf } from '../parts.js';
import { Commit } from '../projects.js';
import { Job } from './jobs.js';
import { Freeze } from './rules.js';
import { Resource } from './resources.js';

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
  /** An owner took it though these rules were not met. */
  override: Nullable(Type.Object({ by: Type.String(), why: Type.String(), rules: Type.Array(Type.String()) })),
  /** Number of the promotion in which it goes with other projects (`j3`). */
  together: Nullable(Type.Integer()),
  /** Of a revert: it undoes another one. */
  undoes: Type.Boolean(),
  /** In the answer to a revert: it had been asked for before, and nothing was done now. */
  already: Type.Optional(Type.Boolean()),
  /** In the answer to a revert that ends this deployment on its way: the release that keeps the traffic. */
  keeps: Type.Optional(Type.Integer()),
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

/** Work that a deployment has done by an agent: what it printed is at /api/attempts/ID/log. */
export const DeploymentAttempt = Type.Object({
  id: Id,
  kind: Type.String(),
  part: Nullable(Type.String()),
  number: Type.Integer(),
  state: oneOf(attemptStates),
  issue: Nullable(Said),
  startedAt: Nullable(Time),
  endedAt: Nullable(Time),
  logLines: Type.Integer(),
});
export type DeploymentAttempt = Static<typeof DeploymentAttempt>;

export const DeploymentStep = Type.Object({
  at: Time,
  /** \`requested\`, \`failing\`, or the state that it went into. */
  what: Type.String(),
  by: Type.String(),
  issue: Nullable(Said),
});
export type DeploymentStep = Static<typeof DeploymentStep>;

export const DeploymentDetail = Type.Intersect([
  Deployment,
  Type.Object({
    /** The oldest first. */
    steps: Type.Array(DeploymentStep),
    attempts: Type.Array(DeploymentAttempt),
    instances: Type.Array(Instance),
    /** Whether it is on its way, so that it can be stopped. */
    moving: Type.Boolean(),
  }),
]);
export type DeploymentDetail = Static<typeof DeploymentDetail>;

export const Environment = Type.Object({
  project: Type.String(),
  name: Type.String(),
  kind: oneOf(['standing', 'review'] as const),
  state: oneOf(environmentStates),
  health: oneOf(healths),
  held: Nullable(Type.Object({ by: Type.String(), why: Type.String() })),
  /** An owner's: it takes nothing until then. */
  freeze: Nullable(Freeze),
  /** Rules that main declares less strictly than they count: a releaser may accept that. */
  loosened: Type.Array(Type.String()),
  url: Type.String(),
  after: Nullable(Type.String()),
  branch: Nullable(Type.String()),
  verifies: Type.Boolean(),
  pullRequest: Nullable(Type.Object({ number: Type.Integer(), title: Type.String() })),
  /** Of a review: how it sleeps, and when it closes. */
  review: Nullable(
    Type.Object({
      /** Whose releases it takes, where it is of no pull request. */
      branch: Nullable(Type.String()),
      /** Of a stranger's pull request: without secrets, others' data and a network, and with less of everything. */
      outside: Type.Boolean(),
      /** Who may look at it. */
      access: oneOf(reviewAccesses),
      /** How deep it sleeps: its programs stand still, or have ended. */
      depth: Nullable(oneOf(sleepDepths)),
      openedAt: Time,
      /** Since when it is in its state. */
      since: Time,
      /** The last use of it. */
      usedAt: Time,
      /** When it falls asleep, and when it closes, if nobody uses it before; null: not by itself. */
      sleepsAt: Nullable(Time),
      closesAt: Nullable(Time),
      /** It does not close by itself before. */
      keepUntil: Nullable(Time),
      /** The moment of the data that it began as a copy of; null: it began empty. */
      dataOf: Nullable(Time),
      /** Why it could not be woken. */
      wakeIssue: Nullable(Said),
    }),
  ),
  live: Nullable(Deployment),
  /** The live release was verified here. */
  verified: Type.Boolean(),
  /** The deployment that has the traffic, where it is not the live one. */
  serving: Nullable(Deployment),
  moving: Nullable(Deployment),
  /** The newest deployment, when it failed. */
  failed: Nullable(Deployment),
  /** What is live and not in main, of a standing one: the newest commit's title, and how many there are (20 at most are counted). */
  beside: Nullable(Type.Object({ commits: Type.Integer(), title: Type.String() })),
  instances: Type.Object({ asked: Type.Integer(), ready: Type.Integer() }),
  /** The newest picture: how much differs from where its change leads to (null: nothing was compared), and its small image. */
  picture: Nullable(Type.Object({ share: Nullable(Type.Number()), small: Nullable(Type.String()), takenAt: Time })),
  /** What waits to be promoted here. */
  waits: Nullable(
    Type.Object({
      release: Type.Integer(),
      /** Pushes to the main branch since what is live here. */
      pushes: Type.Integer(),
      allowed: Type.Boolean(),
      why: Nullable(Type.String()),
      /** When it may be promoted though nobody does anything. */
      until: Nullable(Time),
      /** Whom it needs. */
      whom: Nullable(Type.String()),
    }),
  ),
  /** Variables that were changed since the live deployment and count with the next one. */
  changes: Type.Array(Type.String()),
  /** Why it takes nothing by itself. */
  issue: Nullable(Said),
});
export type Environment = Static<typeof Environment>;

/** How many instances, and how large each may be: bytes, cores; null: as agents give who is not asked. */
export const Size = Type.Object({
  instances: Type.Integer(),
  /** Bounds between which the processor decides on the number; null: it stays. */
  auto: Nullable(Type.Object({ min: Type.Integer(), max: Type.Integer(), cpu: Type.Number() })),
  memory: Nullable(Type.Integer()),
  cpu: Nullable(Type.Number()),
});
export type Size = Static<typeof Size>;

export const ScaleBody = Type.Object(
  {
    part: Name,
    instances: Type.Optional(Type.Integer({ minimum: 0, maximum: 1_000 })),
    memory: Type.Optional(Type.Integer({ minimum: 16 * 1024 ** 2, maximum: 512 * 1024 ** 3 })),
    cpu: Type.Optional(Type.Number({ minimum: 0.05, maximum: 64 })),
    /** What the definition says counts again. */
    reset: Type.Optional(Type.Boolean()),
  },
  closed,
);
export type ScaleBody = Static<typeof ScaleBody>;

/** Copies of its data, for reviews. */
export const Copies = Type.Object({
  /** What makes a copy fit for others, as main declares it now; null: nothing. */
  scrub: Nullable(Type.Object({ part: Type.String(), run: Type.String() })),
  /** An owner has permitted copies that just this has made fit. */
  permitted: Type.Boolean(),
  /** Why there are none. */
  why: Nullable(Said),
});
export type Copies = Static<typeof Copies>;

/** `permit` false: no more; what reviews have by then stays. */
export const CopiesBody = Type.Object({ permit: Type.Boolean() }, closed);

export const EnvironmentDetail = Type.Intersect([
  Environment,
  Type.Object({
    parts: Type.Array(
      Type.Object({
        name: Type.String(),
        kind: oneOf(partKinds),
        at: Nullable(Type.String()),
        digest: Digest,
        /** Of programs: how many are wanted, how large each may be, and whether a person has set that. */
        size: Nullable(Type.Object({ ...Size.properties, set: Type.Boolean() })),
      }),
    ),
    instanceList: Type.Array(Instance),
    resources: Type.Array(Resource),
    addresses: Type.Array(Address),
    jobs: Type.Array(Job),
    history: Type.Array(Deployment),
    /** Null of reviews: they are not copied. */
    copies: Nullable(Copies),
    /** The name under which variables are set for it: of all reviews that of their plan. */
    plan: Type.String(),
    revertsTo: Nullable(Type.Object({ deployment: Type.Integer(), release: Type.Integer() })),
    /** The revert that is live can be undone: nothing else has happened here since. */
    undo: Type.Boolean(),
    /** Commits of what is live that main has not, the newest first; 20 at most. */
    besideMain: Type.Array(Commit),
    delays: Nullable(Type.String()),
  }),
]);
export type EnvironmentDetail = Static<typeof EnvironmentDetail>;

/** What a deployment would make and start; nothing of it is done. */
export const LastLook = Type.Object({
  release: Type.Integer(),
  parts: Type.Array(Type.Object({ name: Type.String(), kind: oneOf(partKinds), size: Nullable(Size) })),
  /** `there`: kept as it is, with all that is in it. */
  resources: Type.Array(Type.Object({ name: Type.String(), kind: Type.String(), there: Type.Boolean() })),
  addresses: Type.Array(Type.Object({ host: Type.String(), there: Type.Boolean() })),
  /** Variables that it requires and nobody has set: it would be refused. */
  unset: Type.Array(Type.String()),
  migrations: Type.Array(Type.Object({ path: Type.String(), what: oneOf(['new', 'changed', 'gone'] as const) })),
  /** The command that runs before its programs start. */
  prepare: Nullable(Type.String()),
  currency: Nullable(Type.String()),
  /** A month, if each takes the memory that it is reckoned with; and all the processor that it may. Null: no prices, or no bound. */
  memoryCost: Nullable(Type.Number()),
  processorCostAtMost: Nullable(Type.Number()),
});
export type LastLook = Static<typeof LastLook>;

export const Ask = Type.Object(
  {
    kind: oneOf(['deploy', 'promote', 'revert'] as const),
    release: Type.Optional(Type.Integer({ minimum: 1 })),
    /** To deploy again what this one of the environment's history brought, with its plain variables. */
    deployment: Type.Optional(Type.Integer({ minimum: 1 })),
    /** Of an owner: why it is promoted though rules are not met. */
    override: Type.Optional(Type.String({ minLength: 1, maxLength: 300, pattern: '\\S' })),
    /** Of a promotion: it gets a share (0.01 to 0.99) beside what is live, until somebody ends that. `beside`: what is live. */
    split: Type.Optional(
      Type.Object(
        { share: Type.Number({ minimum: 0.01, maximum: 0.99 }), beside: Type.Integer({ minimum: 1 }) },
        closed,
      ),
    ),
    /** Of a revert: plain variables of then (default) or of now. */
    variables: Type.Optional(oneOf(['then', 'now'] as const)),
    /** Of a revert: also beyond what is marked as one-way. */
    oneWay: Type.Optional(Type.Boolean()),
    /** Of a revert: number of the deployment to leave. If it is not live any more, nothing happens; left out: what is live, or on its way. */
    leaves: Type.Optional(Type.Integer({ minimum: 1 })),
    /** Of a revert: undo the last one instead. */
    undo: Type.Optional(Type.Boolean()),
    /** Of a revert: the reason, kept with the hold. */
    why: Type.Optional(Type.String({ minLength: 1, maxLength: 300, pattern: '\\S' })),
  },
  closed,
);

/** What a revert would do, and what it can't undo; nothing is done. */
export const RevertCandidate = Type.Object({
  deployment: Type.Integer(),
  release: Type.Integer(),
  commit: Commit,
  kind: oneOf(deploymentKinds),
  actor: Type.String(),
  liveAt: Time,
  /** When another one took its place. */
  leftAt: Nullable(Time),
  /** Its servers are ready and take the traffic at once. */
  warm: Type.Boolean(),
});
export type RevertCandidate = Static<typeof RevertCandidate>;

export const RevertAhead = Type.Object({
  project: Type.String(),
  environment: Type.String(),
  release: Type.Integer(),
  live: Nullable(Type.Integer()),
  /** The deployment whose plain variables come back. */
  then: Type.Integer(),
  /** The deployment that it leaves; null: nothing is live. */
  leaves: Nullable(Type.Integer()),
  /** What a revert from what is live can go back to, the nearest first. */
  candidates: Type.Array(RevertCandidate),
  /** Deployments on their way, which it ends. */
  ends: Type.Array(Type.Integer()),
  /** What served goes on: nothing is started. */
  keeps: Type.Boolean(),
  /** Servers of then take the traffic at once. */
  warm: Type.Boolean(),
  /** Plain ones that are others by now; null: there was, or is, none. */
  variables: Type.Array(
    Type.Object({ name: Type.String(), then: Nullable(Type.String()), now: Nullable(Type.String()) }),
  ),
  /** Secrets that are others by now: those of now are given. */
  secrets: Type.Array(Type.String()),
  /** Migrations since, which stay done. */
  migrations: Type.Array(Type.String()),
  /** Of them, what is marked as one-way: it is refused unless told so. */
  oneWay: Type.Array(Type.String()),
  /** Made since, and used by nothing then. */
  unused: Type.Array(Type.String()),
  /** Removed since: made anew, empty. */
  anew: Type.Array(Type.String()),
  /** What is written since then stays. */
  writtenSince: Nullable(Time),
});
export type RevertAhead = Static<typeof RevertAhead>;

/** A review of a branch that has no pull request. */
export const OpenReview = Type.Object({ branch: Type.String({ minLength: 1, maxLength: 250 }) }, closed);

/** It does not close by itself for so long from now: milliseconds, at most a year. */
export const KeepReview = Type.Object({ ms: Type.Integer({ minimum: 60_000, maximum: 366 * 86_400_000 }) }, closed);

export const Hold = Type.Object({ why: Type.Optional(Type.String({ maxLength: 300 })) }, closed);

export const RestartBody = Type.Object({ part: Type.Optional(Name) }, closed);
/** Programs that are to be replaced: it is done when all of them have ended. */
export const Restarted = Type.Object({ parts: Type.Array(Type.String()), replaces: Type.Array(Id) });
export type Restarted = Static<typeof Restarted>;
