/** Releases, their evidence, and where they may go, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { partKinds } from '../core/states.js';
import { closed, Digest, Nullable, Said, Time, oneOf } from './parts.js';
import { Commit } from './projects.js';
import { Deployment } from './environments/environments.js';
import { Approvals, CutoverStepView, EnvironmentRules, Rule } from './environments/rules.js';

export const PartView = Type.Object({
  name: Type.String(),
  kind: oneOf(partKinds),
  digest: Digest,
  size: Type.Integer(),
});

export const Evidence = Type.Object({
  kind: Type.String(),
  name: Type.String(),
  source: Type.String(),
  /** Of the bytes that it is about. */
  digest: Digest,
  /** Its own. */
  evidence: Digest,
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
  /** Null: it was made elsewhere. */
  run: Nullable(Type.Integer()),
  imported: Nullable(
    Type.Object({ service: Type.String(), project: Type.String(), number: Type.Integer(), key: Type.String() }),
  ),
  parts: Type.Array(PartView),
  createdAt: Time,
});
export type Release = Static<typeof Release>;

export const ReleaseDetail = Type.Intersect([
  Release,
  Type.Object({
    evidence: Type.Array(Evidence),
    /** Paths of its migrations, in their order. */
    migrations: Type.Array(Type.String()),
    /** Where it is and was brought, the newest first; 50 at most. */
    deployments: Type.Array(Deployment),
    /** Whether its bytes are still kept. */
    kept: Type.Boolean(),
  }),
]);
export type ReleaseDetail = Static<typeof ReleaseDetail>;

/** Keys that the owner vouches for: `x` of each JWK. */
export const ImportQuery = Type.Object(
  { key: Type.Array(Type.String({ pattern: '^[A-Za-z0-9_-]{43}$' }), { minItems: 1, maxItems: 20 }) },
  closed,
);

/** A JWK Set (RFC 7517) of Ed25519 keys (RFC 8037), that which signs now first. */
export const KeySet = Type.Object({
  keys: Type.Array(
    Type.Object({
      kty: Type.Literal('OKP'),
      crv: Type.Literal('Ed25519'),
      x: Type.String(),
      use: Type.Literal('sig'),
      alg: Type.Literal('EdDSA'),
      kid: Type.String(),
    }),
  ),
});
export type KeySet = Static<typeof KeySet>;

export const Promotion = Type.Object({
  environment: Type.String(),
  project: Type.String(),
  release: Release,
  live: Nullable(Release),
  after: Nullable(Type.String()),
  allowed: Type.Boolean(),
  refusal: Nullable(Said),
  rules: Type.Array(Rule),
  /** When it may be allowed though nobody does anything. */
  until: Nullable(Time),
  /** An owner may take it nevertheless, with a reason. */
  overridable: Type.Boolean(),
  approvals: Approvals,
  environmentRules: EnvironmentRules,
  commits: Type.Array(Commit),
  /** Whether live is an ancestor: false when going there takes commits away. */
  removed: Type.Array(Commit),
  parts: Type.Array(Type.Object({ name: Type.String(), from: Nullable(Type.String()), to: Nullable(Type.String()) })),
  /** Migrations that are not those of what is live. */
  migrations: Type.Array(Type.Object({ path: Type.String(), what: oneOf(['new', 'changed', 'gone'] as const) })),
  /** In which its traffic moves; none: all at once. */
  steps: Type.Array(CutoverStepView),
  sentence: Type.String(),
});
export type Promotion = Static<typeof Promotion>;
