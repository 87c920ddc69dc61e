/** Pieces that many schemas share. Times are ISO 8601 in UTC, lengths milliseconds, sizes bytes. */
import { type Static, type TSchema, type TUnsafe, Type } from '@sinclair/typebox';

export const Id = Type.String({ pattern: '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$' });
export const Digest = Type.String({ pattern: '^sha256:[0-9a-f]{64}$' });
export const Name = Type.String({ pattern: '^[a-z][a-z0-9-]{0,39}$' });
/** An issue as data; see the registry of errors. */
export const IssueSchema = Type.Object({
  code: Type.String({ maxLength: 60 }),
  // One type of several, not a union: nothing is made a text on its way.
  data: Type.Record(Type.String(), Type.Unsafe<string | number | null>({ type: ['string', 'number', 'null'] })),
});
export type IssueSchema = Static<typeof IssueSchema>;

/** The schema, or null. Said as a type of several where that is possible: of a union each member would be tried at each answer. */
export function Nullable<T extends TSchema>(schema: T): TUnsafe<Static<T> | null> {
  const { type, enum: values } = schema as { type?: unknown; enum?: unknown[] };
  if (typeof type !== 'string') return Type.Union([schema, Type.Null()]) as unknown as TUnsafe<Static<T> | null>;
  return Type.Unsafe({ ...schema, type: [type, 'null'], ...(values ? { enum: [...values, null] } : {}) });
}

/** ISO 8601 in UTC. */
export const Time = Type.String({ format: 'date-time' });
export const oneOf = <T extends readonly string[]>(values: T) =>
  Type.Unsafe<T[number]>({ type: 'string', enum: [...values] });

/** An issue with its wording. */
export const Said = Type.Object({
  code: Type.String(),
  data: Type.Record(Type.String(), Type.Unknown()),
  says: Type.String(),
  next: Type.String(),
});
export type Said = Static<typeof Said>;

/** What a source elsewhere asks for. */
export const CredentialBody = Type.Union([
  Type.Object(
    { user: Type.String({ minLength: 1, maxLength: 200 }), password: Type.String({ minLength: 1, maxLength: 4_000 }) },
    { additionalProperties: false },
  ),
  /** A private key of ssh, without a passphrase. */
  Type.Object({ key: Type.String({ minLength: 1, maxLength: 20_000 }) }, { additionalProperties: false }),
]);
export type CredentialBody = Static<typeof CredentialBody>;

export const closed = { additionalProperties: false };

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

export const Page = <T extends TSchema>(item: T) =>
  Type.Object({ items: Type.Array(item), next: Nullable(Type.String()) });

export interface PageOf<T> {
  items: T[];
  next: string | null;
}

export const PageQuery = {
  cursor: Type.Optional(Type.String({ maxLength: 100 })),
  limit: Type.Optional(Type.Integer({ minimum: 1, maximum: 200 })),
};
