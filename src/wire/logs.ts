/** Logs, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { Nullable, Time } from './parts.js';

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

/** Lines of an environment's programs since a time, in the order in which they came in. */
export const EnvironmentLines = Type.Object({
  lines: Type.Array(
    Type.Object({
      /** `api.1` */
      instance: Type.String(),
      deployment: Type.Integer(),
      /** When it came in. */
      at: Time,
      line: Type.Integer(),
      text: Type.String(),
    }),
  ),
  /** There are others behind them: ask again since the last. */
  more: Type.Boolean(),
});
export type EnvironmentLines = Static<typeof EnvironmentLines>;
