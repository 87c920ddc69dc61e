/** Two releases beside each other, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { Digest, Nullable, closed, oneOf } from './parts.js';
import { Commit } from './projects.js';

const what = oneOf(['added', 'removed', 'changed'] as const);

const Side = Type.Object({
  /** As it was asked for: `production`, `r57`, `d12`. */
  name: Type.String(),
  environment: Nullable(Type.String()),
  release: Type.Integer(),
  deployment: Nullable(Type.Integer()),
  commit: Commit,
});

const ComparedCommit = Type.Intersect([Commit, Type.Object({ pull: Nullable(Type.Integer()) })]);

export const Comparison = Type.Object({
  project: Type.String(),
  from: Side,
  to: Side,
  /** What `to` has and `from` has not, the newest first, at most 1,000; and the other way round. */
  commits: Type.Array(ComparedCommit),
  lost: Type.Array(ComparedCommit),
  /** Of `to`: what is not in main, at most 50. */
  notInMain: Type.Array(Commit),
  /** A unified difference of the definition; empty: it is the same. */
  definition: Type.String(),
  parts: Type.Array(
    Type.Object({
      name: Type.String(),
      from: Nullable(Digest),
      to: Nullable(Digest),
      /** Bytes. */
      fromSize: Type.Integer(),
      toSize: Type.Integer(),
      /** At most 500 of `count`; null: its bytes are gone. */
      files: Nullable(
        Type.Object({
          count: Type.Integer(),
          changes: Type.Array(
            Type.Object({
              path: Type.String(),
              what,
              /** Bytes. */
              from: Nullable(Type.Integer()),
              to: Nullable(Type.Integer()),
            }),
          ),
        }),
      ),
    }),
  ),
  tools: Type.Array(
    Type.Object({ name: Type.String(), what, from: Nullable(Type.String()), to: Nullable(Type.String()) }),
  ),
  resources: Type.Array(
    Type.Object({ name: Type.String(), what, from: Nullable(Type.String()), to: Nullable(Type.String()) }),
  ),
  migrations: Type.Array(Type.Object({ path: Type.String(), what })),
  /** Values of plain ones; of a secret nothing but that it is another one. Null: a side is deployed nowhere. */
  variables: Nullable(
    Type.Array(
      Type.Object({
        name: Type.String(),
        what,
        secret: Type.Boolean(),
        from: Nullable(Type.String()),
        to: Nullable(Type.String()),
      }),
    ),
  ),
  sizes: Nullable(
    Type.Array(Type.Object({ name: Type.String(), what, from: Nullable(Type.String()), to: Nullable(Type.String()) })),
  ),
});
export type Comparison = Static<typeof Comparison>;

const side = Type.String({ minLength: 1, maxLength: 60, pattern: '^[a-z0-9-]+$' });
export const CompareQuery = Type.Object({ from: side, to: side }, closed);
