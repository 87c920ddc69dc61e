/** The board, agents, events, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { Environment } from './environments/environments.js';
import { Nullable, Said, Time } from './parts.js';
import { Run } from './runs.js';

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
