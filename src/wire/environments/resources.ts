/** Resources of environments: what people see of them, and ask of them. No password of a program is in any of it. */
import { type Static, Type } from '@sinclair/typebox';
import {
  backupStates,
  databaseAccesses,
  loginStates,
  loginUses,
  resourceKinds,
  resourcePlaces,
  resourceStates,
  snapshotStates,
  volumeHolds,
} from '../../core/states.js';
import { closed, Id, Name, Nullable, oneOf, Said, Time } from '../parts.js';

export const BackupView = Type.Object({
  number: Type.Integer(),
  by: Type.String(),
  planned: Type.Boolean(),
  state: oneOf(backupStates),
  issue: Nullable(Said),
  bytes: Nullable(Type.Integer()),
  /** The moment of which it is. */
  of: Nullable(Time),
  createdAt: Time,
  /** What came of restoring it beside the resource. */
  tried: Nullable(
    Type.Object({
      at: Time,
      passed: Type.Boolean(),
      /** Of a database. */
      tables: Nullable(Type.Integer()),
      rows: Nullable(Type.Integer()),
      /** Of a volume. */
      files: Nullable(Type.Integer()),
      ms: Type.Integer(),
      issue: Nullable(Said),
    }),
  ),
});
export type BackupView = Static<typeof BackupView>;

/** Where the files of a volume are, and how full it is. */
export const VolumeView = Type.Object({
  /** The agent on whose machine they are; null before one is chosen. */
  agent: Nullable(Type.String()),
  /** Whether that agent gives signs of life. */
  alive: Type.Boolean(),
  /** What holds it to its size; counting says so, and stops nobody. */
  hold: Nullable(oneOf(volumeHolds)),
  /** Where programs find it. */
  path: Type.String(),
  /** Files that were there before, on agents that were away. */
  left: Type.Array(Type.Object({ agent: Type.String(), alive: Type.Boolean(), used: Nullable(Type.Integer()) })),
  /** Agents that could have it. */
  agents: Type.Array(Type.String()),
});
export type VolumeView = Static<typeof VolumeView>;

export const Resource = Type.Object({
  project: Type.String(),
  environment: Type.String(),
  name: Type.String(),
  kind: oneOf(resourceKinds),
  place: oneOf(resourcePlaces),
  state: oneOf(resourceStates),
  /** Since when it is in that state. */
  since: Time,
  issue: Nullable(Said),
  /** A backup is on its way into the place of what is there. */
  restoring: Type.Boolean(),
  /** Whether the release that is live there uses it. */
  used: Type.Boolean(),
  /** As it was seen last; null before that. */
  bytes: Nullable(Type.Integer()),
  /** Bytes that it may hold; null where nothing is said. */
  most: Nullable(Type.Integer()),
  /** What programs may do with a database that has a size. */
  access: oneOf(databaseAccesses),
  connections: Nullable(Type.Integer()),
  seenAt: Nullable(Time),
  /** What its data began as; null: empty, as its definition says. */
  origin: Nullable(
    Type.Object({
      /** The environment whose data it is a copy of. */
      copy: Type.String(),
      /** The moment of which that copy is; null where it began empty all the same, or waits for the copy. */
      of: Nullable(Time),
      /** Why it began empty, or older than was asked for. */
      why: Nullable(Said),
    }),
  ),
  /** Of a volume; null of others. */
  volume: Nullable(VolumeView),
  backups: Type.Object({ kept: Type.Integer(), last: Nullable(Time) }),
  createdAt: Time,
});
export type Resource = Static<typeof Resource>;

export const LoginView = Type.Object({
  id: Id,
  usedBy: oneOf(loginUses),
  /** `d17`, or the name of a person. */
  who: Type.String(),
  state: oneOf(loginStates),
  createdAt: Time,
  until: Nullable(Time),
});
export type LoginView = Static<typeof LoginView>;

/** A copy that reviews are made of. */
export const SnapshotView = Type.Object({
  id: Id,
  state: oneOf(snapshotStates),
  by: Type.String(),
  issue: Nullable(Said),
  /** The moment of which it is. */
  of: Nullable(Time),
  bytes: Nullable(Type.Integer()),
  /** What made it fit for others: the command, and the deployment whose code that was; `attempt` has its log. */
  scrub: Nullable(Type.Object({ run: Type.String(), deployment: Type.String(), attempt: Nullable(Id) })),
  /** Reviews whose data is made of it, or waits for it. */
  reviews: Type.Integer(),
  createdAt: Time,
});
export type SnapshotView = Static<typeof SnapshotView>;

export const ResourceDetail = Type.Intersect([
  Resource,
  Type.Object({
    /** As the definition asks for it. */
    plan: Type.Object({
      extensions: Type.Array(Type.String()),
      /** Bytes, where the definition says so. */
      size: Nullable(Type.Integer()),
      backup: Nullable(Type.Object({ everyMs: Type.Number(), keep: Type.Integer(), tryMs: Nullable(Type.Number()) })),
    }),
    logins: Type.Array(LoginView),
    backupList: Type.Array(BackupView),
    nextBackup: Nullable(Time),
    snapshots: Type.Array(SnapshotView),
  }),
]);
export type ResourceDetail = Static<typeof ResourceDetail>;

export const TableList = Type.Object({
  items: Type.Array(
    Type.Object({
      schema: Type.String(),
      name: Type.String(),
      bytes: Type.Integer(),
      /** As its server counted last; -1 where it never has. */
      rows: Type.Number(),
    }),
  ),
});
export type TableList = Static<typeof TableList>;

export const RowQuery = Type.Object(
  {
    schema: Type.String({ minLength: 1, maxLength: 63 }),
    table: Type.String({ minLength: 1, maxLength: 63 }),
    from: Type.Optional(Type.Integer({ minimum: 0, maximum: 1_000_000_000 })),
  },
  closed,
);
export const RowPage = Type.Object({
  columns: Type.Array(Type.String()),
  rows: Type.Array(Type.Array(Nullable(Type.String()))),
  from: Type.Integer(),
  more: Type.Boolean(),
});
export type RowPage = Static<typeof RowPage>;

/** A login of one's own: shown once. */
export const OpenedLogin = Type.Object({ id: Id, url: Type.String(), until: Time });
export type OpenedLogin = Static<typeof OpenedLogin>;

export const RestoreBody = Type.Object(
  {
    /** Number of the backup. */
    backup: Type.Integer({ minimum: 1 }),
    /** Whose backup; default: the same environment's, and the same resource's. */
    environment: Type.Optional(Name),
    resource: Type.Optional(Name),
    /** false: what is there is not backed up first. Default: it is. */
    first: Type.Optional(Type.Boolean()),
    /** Of a volume: the agent on whose machine its files are from then on; default: where they are. */
    on: Type.Optional(Type.String({ minLength: 1, maxLength: 80 })),
  },
  closed,
);
export type RestoreBody = Static<typeof RestoreBody>;

export const ConnectBody = Type.Object({ url: Type.String({ minLength: 1, maxLength: 2_000 }) }, closed);

export const RemoveResource = Type.Object(
  {
    /** Its name again: nobody removes data in passing. */
    confirm: Type.String({ maxLength: 60 }),
    backups: Type.Optional(Type.Boolean()),
  },
  closed,
);

/** What goes when it is removed. */
export const ResourceRemoval = Type.Object({
  bytes: Nullable(Type.Integer()),
  connections: Nullable(Type.Integer()),
  backups: Type.Integer(),
  /** The release that uses it and is live: then it can't be removed. */
  usedBy: Nullable(Type.String()),
});
export type ResourceRemoval = Static<typeof ResourceRemoval>;
