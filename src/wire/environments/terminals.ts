/** Terminals in environments: how they are asked for, listed, and what goes over their streams. */
import { type Static, Type } from '@sinclair/typebox';
import { terminalEnds, terminalStates } from '../../core/states.js';
import { Id, Nullable, oneOf, Said, Time } from '../parts.js';

export const TerminalAsk = Type.Object(
  {
    /** Program and arguments; none: a shell. */
    command: Type.Array(Type.String({ maxLength: 32_768 }), { maxItems: 500 }),
    /** With a terminal of its own; else input and both outputs are streams. */
    tty: Type.Boolean(),
    part: Type.Optional(Type.String({ maxLength: 60 })),
    /** `api.1`: beside that instance's program, in its sandbox. */
    beside: Type.Optional(Type.String({ maxLength: 80 })),
  },
  { additionalProperties: false },
);
export type TerminalAsk = Static<typeof TerminalAsk>;

export const Terminal = Type.Object({
  id: Id,
  who: Type.String(),
  command: Type.Array(Type.String()),
  tty: Type.Boolean(),
  part: Type.String(),
  /** `api.1`, or null: in a sandbox of its own. */
  beside: Nullable(Type.String()),
  state: oneOf(terminalStates),
  why: Nullable(oneOf(terminalEnds)),
  exit: Nullable(Type.Integer()),
  issue: Nullable(Said),
  createdAt: Time,
  openedAt: Nullable(Time),
  endedAt: Nullable(Time),
});
export type Terminal = Static<typeof Terminal>;

export const TerminalAsked = Type.Object({
  terminal: Terminal,
  /** Shown once, as the first message of the stream, within half a minute. */
  ticket: Type.String(),
  /** Path of the stream, a WebSocket. */
  stream: Type.String(),
});
export type TerminalAsked = Static<typeof TerminalAsked>;

// Messages of a stream: binary ones are bytes with one before them that says of what (core/streams.ts); texts are JSON, one of these.
const Size = Type.Tuple([Type.Integer({ minimum: 1, maximum: 1000 }), Type.Integer({ minimum: 1, maximum: 1000 })]);

/** The person's first message. */
export const Hello = Type.Object(
  {
    ticket: Type.String({ maxLength: 200 }),
    /** Columns and rows. */
    size: Size,
    /** Name of the terminal, as TERM has it. */
    term: Type.String({ pattern: '^[A-Za-z0-9.+-]{1,40}$' }),
  },
  { additionalProperties: false },
);
export type Hello = Static<typeof Hello>;

/** From the person: another size, or that no input comes any more. */
export const FromPerson = Type.Union([
  Type.Object({ size: Size }, { additionalProperties: false }),
  Type.Object({ eof: Type.Literal(true) }, { additionalProperties: false }),
]);
export type FromPerson = Static<typeof FromPerson>;

/** From the agent: it has begun; it has ended. */
export const FromAgent = Type.Union([
  Type.Object({ begun: Type.Literal(true) }, { additionalProperties: false }),
  Type.Object(
    {
      ended: Type.Object(
        {
          why: oneOf(terminalEnds),
          exit: Nullable(Type.Integer()),
          /** In words, where something went wrong. */
          says: Nullable(Type.String({ maxLength: 2_000 })),
        },
        { additionalProperties: false },
      ),
    },
    { additionalProperties: false },
  ),
]);
export type FromAgent = Static<typeof FromAgent>;

/** To the agent from the service: why it is over. */
export const ToldOver = Type.Object({ over: oneOf(terminalEnds) }, { additionalProperties: false });
export type ToldOver = Static<typeof ToldOver>;
