/** From a repository to its first live address: a look at a source, what is recognised in it, its draft. */
import { type Static, Type } from '@sinclair/typebox';
import { partKinds } from '../core/states.js';
import { Size } from './environments/environments.js';
import { Commit } from './projects.js';
import { closed, CredentialBody, Name, Nullable, oneOf, Said } from './parts.js';

const source = {
  url: Type.String({ minLength: 1, maxLength: 2_000 }),
  credential: Type.Optional(CredentialBody),
  /** The address may lead into private networks. */
  allowPrivate: Type.Optional(Type.Boolean()),
};

export const SourceLook = Type.Object(source, closed);
export type SourceLook = Static<typeof SourceLook>;
export const SourceBranches = Type.Object({ branches: Type.Array(Type.String()), main: Nullable(Type.String()) });
export type SourceBranches = Static<typeof SourceBranches>;

export const RecogniseBody = Type.Object(
  {
    ...source,
    branch: Type.Optional(Type.String({ minLength: 1, maxLength: 200 })),
    /** Answers to questions, by their ids. */
    answers: Type.Optional(Type.Record(Type.String({ maxLength: 40 }), Type.String({ maxLength: 400 }))),
  },
  closed,
);
export type RecogniseBody = Static<typeof RecogniseBody>;

export const DefinitionIssueView = Type.Intersect([
  Said,
  Type.Object({ severity: oneOf(['error', 'warning'] as const), line: Type.Integer(), column: Type.Integer() }),
]);

export type DefinitionIssueView = Static<typeof DefinitionIssueView>;
/** A text that may become a definition, and the name of the project that it is for: its addresses carry that. */
export const DefinitionText = Type.Object(
  { text: Type.String({ maxLength: 256 * 1024 }), project: Type.Optional(Name) },
  closed,
);

/** An environment as a definition declares it, before any of it is there. */
export const EnvironmentAhead = Type.Object({
  name: Type.String(),
  takes: oneOf(['branch', 'after', 'pull requests', 'by hand'] as const),
  /** The branch, or the environment, that what comes there comes from. */
  of: Nullable(Type.String()),
  /** It comes by itself. */
  automatic: Type.Boolean(),
  parts: Type.Array(Type.Object({ name: Type.String(), kind: oneOf(partKinds), size: Nullable(Size) })),
  resources: Type.Array(Type.Object({ name: Type.String(), kind: Type.String(), there: Type.Boolean() })),
  addresses: Type.Array(Type.String()),
  /** A month, as in a last look before a deployment. */
  memoryCost: Nullable(Type.Number()),
  processorCostAtMost: Nullable(Type.Number()),
});
export type EnvironmentAhead = Static<typeof EnvironmentAhead>;

export const DefinitionCheck = Type.Object({
  issues: Type.Array(DefinitionIssueView),
  /** What it would bring about; empty where it can't be read. */
  environments: Type.Array(EnvironmentAhead),
  currency: Nullable(Type.String()),
});
export type DefinitionCheck = Static<typeof DefinitionCheck>;

export const Recognised = Type.Object({
  branch: Type.String(),
  folder: Type.String(),
  commit: Commit,
  /** The commit has a definition of its own: nothing has to be proposed. */
  hasDefinition: Type.Boolean(),
  /** The text of that. */
  own: Nullable(Type.String()),
  found: Type.Array(Type.Object({ what: Type.String(), folder: Type.String(), why: Type.String() })),
  text: Type.String(),
  reasons: Type.Array(Type.Object({ line: Type.Integer(), why: Type.String() })),
  questions: Type.Array(
    Type.Object({
      id: Type.String(),
      ask: Type.String(),
      answers: Type.Array(Type.Object({ value: Type.String(), why: Type.String() })),
      answer: Type.String(),
      given: Type.Boolean(),
    }),
  ),
  notes: Type.Array(Said),
});
export type Recognised = Static<typeof Recognised>;

export const DraftBody = Type.Object(
  {
    text: Type.String({ maxLength: 256 * 1024 }),
    /** Only looked at, not kept. */ look: Type.Optional(Type.Boolean()),
  },
  closed,
);
export type DraftBody = Static<typeof DraftBody>;

/** The definition of commits that have none of their own. */
export const Draft = Type.Object({
  text: Nullable(Type.String()),
  /** Where it belongs in the repository. */
  path: Type.String(),
  issues: Type.Array(DefinitionIssueView),
  /** What committing it would change on the main branch, as a unified difference; empty when it is there already. */
  difference: Type.String(),
  /** The service can commit it: the project is hosted. */
  committable: Type.Boolean(),
});
export type Draft = Static<typeof Draft>;

export const ProjectChange = Type.Object(
  {
    name: Type.Optional(Type.String({ pattern: '^[a-z][a-z0-9-]{0,39}$' })),
    paused: Type.Optional(Type.Boolean()),
    url: Type.Optional(Type.String({ minLength: 1, maxLength: 2_000 })),
    credential: Type.Optional(Nullable(CredentialBody)),
    /** Where the states of its runs are told; null: nowhere. */
    statuses: Type.Optional(Nullable(Type.String({ minLength: 1, maxLength: 2_000 }))),
    /** Refs of its pull requests, with a `*` for the number, of a source that is looked at; null: none. */
    pullRequests: Type.Optional(Nullable(Type.String({ minLength: 1, maxLength: 200 }))),
    /** Of a hosted project: a push can neither delete nor rewrite its main branch. */
    protect: Type.Optional(Type.Boolean()),
  },
  closed,
);
export type ProjectChange = Static<typeof ProjectChange>;
