/** Logs, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { Nullable } from './parts.js';

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
