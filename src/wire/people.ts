/** People, their tokens and sessions, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { roles, takesKinds } from '../core/states.js';
import { Id, Name, Nullable, Time, closed, oneOf } from './parts.js';

export const Me = Type.Object({ name: Type.String(), role: oneOf(roles), project: Nullable(Type.String()) });
export type Me = Static<typeof Me>;

export const SignIn = Type.Object(
  { code: Type.Optional(Type.String({ maxLength: 200 })), token: Type.Optional(Type.String({ maxLength: 200 })) },
  closed,
);

export const Person = Type.Object({ name: Type.String(), role: oneOf(roles), addedAt: Time });
export type Person = Static<typeof Person>;

export const NewPerson = Type.Object(
  { name: Type.String({ pattern: '^[\\p{L}\\p{N}][\\p{L}\\p{N} ._-]{0,59}$' }), role: oneOf(roles) },
  closed,
);

/** The one-time sign-in is shown this once. */
export const AddedPerson = Type.Intersect([Person, Type.Object({ signIn: Type.String(), expiresAt: Time })]);
export type AddedPerson = Static<typeof AddedPerson>;

export const RoleBody = Type.Object({ role: oneOf(roles) }, closed);

const PortRange = Type.Object(
  { from: Type.Integer({ minimum: 1024, maximum: 65_535 }), to: Type.Integer({ minimum: 1024, maximum: 65_535 }) },
  closed,
);

export const Token = Type.Object({
  id: Id,
  kind: Type.String(),
  name: Type.String(),
  role: Nullable(oneOf(roles)),
  project: Nullable(Type.String()),
  /** Whose it is; null of agents and edges. */
  person: Nullable(Type.String()),
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
