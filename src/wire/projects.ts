/** Projects and their commits, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { beginningKinds, sourceKinds } from '../core/states.js';
import { CredentialBody, Name, Nullable, Said, Time, closed, oneOf } from './parts.js';

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
  /** Of a hosted project: a push can neither delete nor rewrite its main branch. */
  protect: Type.Boolean(),
  /** A picture of how its main branch stands (`&branch=` for another), for anybody who has this address. */
  badge: Type.String(),
  /** Where the states of its runs are told, and why that fails. */
  /** Refs of its pull requests that are looked at. */
  pullRequests: Nullable(Type.String()),
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
    /** Of a hosted project: what its first commit is made of. */
    begin: Type.Optional(oneOf(beginningKinds)),
  },
  closed,
);
export type NewProject = Static<typeof NewProject>;

/** The secret is shown this once. */
export const AddedProject = Type.Intersect([Project, Type.Object({ eventSecret: Nullable(Type.String()) })]);
export type AddedProject = Static<typeof AddedProject>;

export const Removal = Type.Object({
  environments: Type.Array(Type.String()),
  addresses: Type.Array(Type.String()),
  runs: Type.Integer(),
  releases: Type.Integer(),
  variables: Type.Integer(),
  /** What its environments have of their own, with all that is in it: `staging timetable`. */
  resources: Type.Array(Type.String()),
});
export type Removal = Static<typeof Removal>;

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
