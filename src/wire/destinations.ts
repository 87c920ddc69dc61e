/** Destinations of logs, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { destinationKinds } from '../core/states.js';
import { closed, Name, Nullable, oneOf, Said, Time } from './parts.js';

export const Destination = Type.Object({
  name: Type.String(),
  kind: oneOf(destinationKinds),
  url: Type.String(),
  /** Name of the header that goes with each request; its value is shown to nobody. */
  header: Nullable(Type.String()),
  project: Nullable(Type.String()),
  environment: Nullable(Type.String()),
  by: Type.String(),
  createdAt: Time,
  sentAt: Nullable(Time),
  sentLines: Type.Integer(),
  /** Of what was gone before it could be sent, or was refused for good. */
  leftBytes: Type.Integer(),
  /** Why it takes nothing, or took less than all. */
  issue: Nullable(Said),
});
export type Destination = Static<typeof Destination>;

const address = Type.String({ maxLength: 1_000 });
export const DestinationBody = Type.Object(
  {
    name: Name,
    /** `syslog+tls://logs.kohama.example:6514`, or `syslog://` over TCP alone. */
    syslog: Type.Optional(address),
    otlp: Type.Optional(address),
    header: Type.Optional(
      Type.Object(
        {
          name: Type.String({ pattern: "^[A-Za-z0-9!#$%&'*+.^_`|~-]{1,60}$" }),
          value: Type.String({ pattern: '^[\\x21-\\x7e]([\\x20-\\x7e]*[\\x21-\\x7e])?$', maxLength: 4_000 }),
        },
        closed,
      ),
    ),
    /** Certificates that it is known by instead of those of everybody, in PEM. */
    authorities: Type.Optional(Type.String({ maxLength: 100_000 })),
    project: Type.Optional(Name),
    environment: Type.Optional(Type.String({ maxLength: 60 })),
  },
  closed,
);
export type DestinationBody = Static<typeof DestinationBody>;
