/** What agents and edges exchange with the service. */
import { mostWithout } from './most.js';
import { coverageFiles } from '../../core/results/coverage.js';
import { type Static, Type } from '@sinclair/typebox';
import { attemptKinds, choreActs, takesKinds, terminalEnds, volumeHolds } from '../../core/states.js';
import { Digest, Id, IssueSchema, Nullable, oneOf } from '../parts.js';

const Variables = Type.Record(Type.String(), Type.String());
export const Fence = Type.String({ pattern: '^[0-9]{1,18}$' });

/** `ending`: it was told to end, and is at it. */
const Held = Type.Object(
  { id: Id, fence: Fence, ending: Type.Optional(Type.Boolean()) },
  { additionalProperties: false },
);
/** `frozen`: it was told to stand still, and not told since to go on. */
const HeldInstance = Type.Object(
  { id: Id, fence: Fence, ending: Type.Optional(Type.Boolean()), frozen: Type.Optional(Type.Boolean()) },
  { additionalProperties: false },
);

export const Registration = Type.Object(
  {
    /** As its token says. */
    name: Type.String({ minLength: 1, maxLength: 80 }),
    boot: Id,
    /** What it takes of what its token allows; default all of it. */
    takes: Type.Optional(Type.Array(oneOf(takesKinds), { minItems: 1, maxItems: 3 })),
    slots: Type.Integer({ minimum: 0, maximum: 256 }),
    /** Where its instances are reached; default as its token says. Another one than that is refused. */
    address: Type.Optional(Type.String({ maxLength: 100 })),
    tools: Type.Record(Type.String({ maxLength: 40 }), Type.String({ maxLength: 100 })),
    base: Type.String({ pattern: '^[0-9a-f]{64}$' }),
    /** Bytes that its instances may take together. */
    memory: Type.Optional(Type.Integer({ minimum: 0 })),
    sandbox: Type.Record(Type.String(), Type.Unknown()),
    /** What it works on though it has to register again. */
    attempts: Type.Array(Held, { maxItems: 1000 }),
    /** Attempts that were over their limits when the agent before it ended. */
    hurt: Type.Array(Id, { maxItems: 1000 }),
    /** The agent before it was stopped or restarted: what it held goes to others, and no try is used up. */
    left: Type.Optional(Type.Boolean()),
  },
  { additionalProperties: false },
);
export type Registration = Static<typeof Registration>;

export const Registered = Type.Object({
  agent: Id,
  leaseMs: Type.Integer(),
  /** What its token says. */
  address: Type.String(),
  ports: Type.Object({ from: Type.Integer(), to: Type.Integer() }),
});
export type Registered = Static<typeof Registered>;

/** An agent that ends: what it held goes to others at once. */
export const Leaving = Type.Object(
  { boot: Id, attempts: Type.Array(Held, { maxItems: 1000 }) },
  { additionalProperties: false },
);
export type Leaving = Static<typeof Leaving>;

export const Poll = Type.Object(
  {
    boot: Id,
    /** Why it takes nothing new. */
    full: Type.Union([IssueSchema, Type.Null()]),
    /** Attempts that it does at the same time; 0 takes none. */
    slots: Type.Integer({ minimum: 0, maximum: 256 }),
    /** Instances that it can take besides those that it has. */
    room: Type.Integer({ minimum: 0, maximum: 10_000 }),
    attempts: Type.Array(Held, { maxItems: 1000 }),
    instances: Type.Array(HeldInstance, { maxItems: 1000 }),
    /** Terminals that it has, and how many more it would take. Left out by an agent of before. */
    terminals: Type.Optional(Type.Array(Held, { maxItems: 100 })),
    terminalRoom: Type.Optional(Type.Integer({ minimum: 0, maximum: 100 })),
    /** Chores that it does, and how many more it would take. */
    chores: Type.Optional(Type.Array(Held, { maxItems: 100 })),
    choreRoom: Type.Optional(Type.Integer({ minimum: 0, maximum: 100 })),
    /** All of its volumes, where it has looked at them since it asked last. */
    volumes: Type.Optional(
      Type.Array(
        Type.Object(
          {
            id: Id,
            hold: oneOf(volumeHolds),
            size: Type.Integer({ minimum: 0 }),
            used: Type.Integer({ minimum: 0 }),
          },
          { additionalProperties: false },
        ),
        { maxItems: 10_000 },
      ),
    ),
    /** Attempts that it can't bring to an end. */
    gaveUp: Type.Array(Id, { maxItems: 1000 }),
    waitMs: Type.Integer({ minimum: 0, maximum: 30_000 }),
  },
  { additionalProperties: false },
);
export type Poll = Static<typeof Poll>;

/** A volume of its agent's, which is shown in /volumes under its name. */
const SeenVolume = Type.Object({ id: Id, name: Type.String() });

/** What it may reach, with the name that leads there; without an address: a port of the agent's machine. */
const Reach = Type.Object({ port: Type.Integer(), host: Type.String(), address: Type.Optional(Type.String()) });
export type Reach = Static<typeof Reach>;

export const AttemptWork = Type.Object({
  id: Id,
  fence: Fence,
  kind: oneOf(attemptKinds),
  label: Type.String(),
  commands: Type.Array(Type.String()),
  variables: Variables,
  /** Names of the variables that are secrets: their values are masked wherever they are shown. */
  secret: Type.Array(Type.String()),
  files: Type.Union([
    Type.Object({
      key: Type.String(),
      count: Type.Integer(),
      /** All of them as a layer, base64, where that is small and the agent was not told of it lately. */
      layer: Type.Optional(Type.String()),
    }),
    Type.Null(),
  ]),
  layers: Type.Array(Digest),
  makes: Type.Array(Type.String()),
  results: Type.Union([Type.String(), Type.Null()]),
  /** What it prints is of data that is not fit for others: no reason quotes a line of it. Left out: quoted. */
  unquoted: Type.Optional(Type.Boolean()),
  coverage: Type.Union([Type.String(), Type.Null()]),
  timeoutMs: Type.Integer(),
  network: Type.Union([Type.Literal('none'), Type.Literal('open')]),
  reach: Type.Array(Reach),
  /** Name → what the agent makes for this attempt. */
  resources: Type.Record(Type.String(), Type.Literal('postgres')),
  /** Its databases are made on the server for untrusted work. */
  untrusted: Type.Boolean(),
  /** Variables that come from a field of a resource. */
  fromResources: Type.Record(Type.String(), Type.Object({ from: Type.String(), append: Type.String() })),
  /** Folders kept between attempts with the same key. */
  cache: Type.Object({ key: Type.String(), paths: Type.Array(Type.String()) }),
  /** Volumes of its release. Left out by a service of before. */
  volumes: Type.Optional(Type.Array(SeenVolume)),
  /** Bytes and cores that it may take; as the agent gives where they are left out. */
  memory: Type.Optional(Type.Integer()),
  cpu: Type.Optional(Type.Number()),
  /** Where its log goes on; above 0 when the agent takes it up again. */
  logBytes: Type.Integer(),
});
export type AttemptWork = Static<typeof AttemptWork>;

export const InstanceWork = Type.Object({
  id: Id,
  fence: Fence,
  label: Type.String(),
  part: Type.String(),
  kind: Type.Union([Type.Literal('server'), Type.Literal('worker')]),
  start: Type.String(),
  ready: Type.Union([Type.String(), Type.Null()]),
  /** Whether it is asked in HTTP/2. Left out by a service of before. */
  http2: Type.Optional(Type.Boolean()),
  readyMs: Type.Integer(),
  drainMs: Type.Integer(),
  layers: Type.Array(Digest),
  variables: Variables,
  /** Names of the variables that are secrets. */
  secret: Type.Array(Type.String()),
  /** Servers of its resources. Left out by a service of before. */
  reach: Type.Optional(Type.Array(Reach)),
  volumes: Type.Optional(Type.Array(SeenVolume)),
  /** Bytes and cores that it may take; as the agent gives where they are left out. */
  memory: Type.Optional(Type.Integer()),
  cpu: Type.Optional(Type.Number()),
  /** Of a review: where the processor is short, what stands comes first. */
  behind: Type.Optional(Type.Literal(true)),
  /** None but its servers; left out: open. */
  network: Type.Optional(Type.Literal('none')),
  logBytes: Type.Integer(),
});
export type InstanceWork = Static<typeof InstanceWork>;

/** A person's terminal: a program of the release, joined to that person's stream. */
export const TerminalWork = Type.Object({
  id: Id,
  fence: Fence,
  /** Address of the service at which its person waits; null: the one that the agent asks. */
  door: Type.Union([Type.String(), Type.Null()]),
  label: Type.String(),
  /** Program and arguments. */
  command: Type.Array(Type.String()),
  tty: Type.Boolean(),
  columns: Type.Integer(),
  rows: Type.Integer(),
  /** Id of the instance beside whose program it runs; null: in a sandbox of its own. */
  beside: Type.Union([Id, Type.Null()]),
  layers: Type.Array(Digest),
  variables: Variables,
  reach: Type.Array(Reach),
  volumes: Type.Optional(Type.Array(SeenVolume)),
  network: Type.Optional(Type.Literal('none')),
  /** Milliseconds without a byte either way, and in all, after which it ends. */
  idleMs: Type.Integer(),
  longestMs: Type.Integer(),
});
export type TerminalWork = Static<typeof TerminalWork>;

export const TerminalReport = Type.Object(
  {
    fence: Fence,
    why: oneOf(terminalEnds),
    exit: Type.Union([Type.Integer(), Type.Null()]),
    issue: Type.Union([IssueSchema, Type.Null()]),
  },
  { additionalProperties: false },
);

/** What is to be done to a volume of the agent's. */
export const ChoreWork = Type.Object({
  id: Id,
  fence: Fence,
  volume: Id,
  act: oneOf(choreActs),
  /** Which wish it fulfils. */
  turn: Type.String(),
  /** Bytes that the volume may hold. */
  size: Nullable(Type.Integer()),
});
export type ChoreWork = Static<typeof ChoreWork>;

export const ChoreReport = Type.Object(
  {
    fence: Fence,
    /** What was counted in it. */
    found: Nullable(
      Type.Object(
        { files: Type.Integer({ minimum: 0 }), bytes: Type.Integer({ minimum: 0 }) },
        { additionalProperties: false },
      ),
    ),
    issue: Nullable(IssueSchema),
  },
  { additionalProperties: false },
);
export type ChoreReport = Static<typeof ChoreReport>;

export const PollAnswer = Type.Object({
  attempts: Type.Array(AttemptWork),
  instances: Type.Array(InstanceWork),
  /** Left out by a service of before. */
  terminals: Type.Optional(Type.Array(TerminalWork)),
  chores: Type.Optional(Type.Array(ChoreWork)),
  /** Attempts to stop, and instances to end. */
  stop: Type.Array(Id),
  end: Type.Array(Id),
  /** Instances that shall stand still, and such that shall go on. Left out by a service of before. */
  freeze: Type.Optional(Type.Array(Id)),
  thaw: Type.Optional(Type.Array(Id)),
  /** What the agent holds and the records say it does not: to be ended without a report. */
  drop: Type.Array(Id),
  /** Volumes that belong to nobody: they are removed. Left out by a service of before. */
  forget: Type.Optional(Type.Array(Id)),
});
export type PollAnswer = Static<typeof PollAnswer>;

/** An edge has somebody who would look at a review: with a pass, or with what is exchanged for one. */
export const GateRequest = Type.Object(
  {
    name: Type.String({ minLength: 1, maxLength: 80 }),
    host: Type.String({ minLength: 1, maxLength: 300 }),
    pass: Type.Optional(Type.String({ maxLength: 200 })),
    link: Type.Optional(Type.String({ maxLength: 200 })),
    code: Type.Optional(Type.String({ maxLength: 1_000 })),
    /** What the browser was given when it set out; of a code. */
    door: Type.Optional(Type.String({ maxLength: 100 })),
  },
  { additionalProperties: false },
);
export const GateAnswer = Type.Object({
  /** Milliseconds for which a pass lets its holder in before it is asked for again; 0: it does not. */
  goodMs: Type.Integer(),
  /** Whether what comes with it counts nowhere. Left out: it does. */
  quiet: Type.Optional(Type.Boolean()),
  /** What a link or a code was exchanged for, and for how long. */
  pass: Type.Union([Type.String(), Type.Null()]),
  passSeconds: Type.Integer(),
  /** Why there is none. */
  why: Type.Union([Type.String(), Type.Null()]),
});
export type GateAnswer = Static<typeof GateAnswer>;

/** An edge has somebody who asks for a host that sleeps; `look`: only for how it is. */
export const WakeRequest = Type.Object(
  {
    name: Type.String({ minLength: 1, maxLength: 80 }),
    host: Type.String({ minLength: 1, maxLength: 300 }),
    look: Type.Boolean(),
  },
  { additionalProperties: false },
);
export const WakeAnswer = Type.Object({
  state: Type.Union([
    Type.Literal('awake'),
    /** Its programs go on where they stood; the table follows. */
    Type.Literal('stands'),
    Type.Literal('waking'),
    Type.Literal('asleep'),
    /** It has closed, or was never there. */
    Type.Literal('gone'),
  ]),
  /** Others that start their programs before it. */
  queue: Type.Integer(),
  /** Why it could not be woken. */
  issue: Type.Union([Type.Object({ says: Type.String(), next: Type.String() }), Type.Null()]),
});
export type WakeAnswer = Static<typeof WakeAnswer>;

const Case = Type.Object({
  name: Type.String(),
  group: Type.String(),
  state: Type.Union([Type.Literal('passed'), Type.Literal('failed'), Type.Literal('skipped')]),
  ms: Type.Union([Type.Number(), Type.Null()]),
  message: Type.String(),
  place: Type.String(),
});
export const Tests = Type.Object({
  passed: Type.Integer(),
  failed: Type.Integer(),
  skipped: Type.Integer(),
  cases: Type.Array(Case),
});

/** Rising lines: `1-5,7`. */
const Lines = Type.String({ pattern: '^([0-9]{1,8}(-[0-9]{1,8})?(,[0-9]{1,8}(-[0-9]{1,8})?)*)?$' });
export const CoveredFile = Type.Object({ path: Type.String({ maxLength: 4096 }), hit: Lines, missed: Lines });

export const AttemptReport = Type.Object(
  {
    fence: Fence,
    happenings: Type.Array(
      Type.Union([
        Type.Object({
          what: Type.Literal('command-started'),
          position: Type.Integer({ minimum: 0 }),
          firstLine: Type.Integer({ minimum: 0 }),
        }),
        Type.Object({
          what: Type.Literal('command-ended'),
          position: Type.Integer({ minimum: 0 }),
          exit: Type.Integer(),
          ms: Type.Number({ minimum: 0 }),
        }),
        Type.Object({
          what: Type.Literal('covered'),
          found: Type.Integer({ minimum: 0 }),
          hit: Type.Integer({ minimum: 0 }),
          files: Type.Array(CoveredFile, { maxItems: coverageFiles }),
        }),
        Type.Object({
          what: Type.Literal('ended'),
          state: Type.Union([Type.Literal('passed'), Type.Literal('failed'), Type.Literal('stopped')]),
          issue: Type.Union([IssueSchema, Type.Null()]),
          output: Type.Union([Type.Object({ digest: Digest, size: Type.Integer({ minimum: 0 }) }), Type.Null()]),
          tests: Type.Union([Tests, Type.Null()]),
          /** The first line of each command, now that all of them are known. */
          firstLines: Type.Optional(Type.Array(Type.Integer({ minimum: 0 }), { maxItems: 1000 })),
        }),
      ]),
      { maxItems: 200 },
    ),
  },
  { additionalProperties: false },
);
export type AttemptReport = Static<typeof AttemptReport>;

export const IdParams = Type.Object({ id: Id });

/** The files that an attempt sees, as git has them. */
export const FileList = Type.Object({
  files: Type.Array(Type.Object({ path: Type.String(), mode: Type.String(), id: Type.String() })),
});
export type FileList = Static<typeof FileList>;

/** Some of them, by mode and object id. */
export const FilesWanted = Type.Object(
  {
    names: Type.Array(Type.String({ pattern: '^[0-7]{6}-[0-9a-f]{40,64}$' }), { minItems: 1, maxItems: 500_000 }),
  },
  { additionalProperties: false },
);

/** With the end of a task's attempt its agent is given what it may do next. */
export const ReportAnswer = Type.Object({ attempts: Type.Array(AttemptWork) });
export type ReportAnswer = Static<typeof ReportAnswer>;

export const InstanceReportSchema = Type.Object(
  {
    fence: Fence,
    state: Type.Union([Type.Literal('ready'), Type.Literal('frozen'), Type.Literal('failed'), Type.Literal('ended')]),
    port: Type.Union([Type.Integer({ minimum: 1, maximum: 65_535 }), Type.Null()]),
    exit: Type.Union([Type.Integer(), Type.Null()]),
    issue: Type.Union([IssueSchema, Type.Null()]),
  },
  { additionalProperties: false },
);

export const LogPlace = Type.Object({
  fence: Fence,
  position: Type.Integer({ minimum: 0 }),
  command: Type.Integer({ minimum: 0, maximum: 10_000 }),
  /** What was left out right before these bytes. */
  skippedLines: Type.Optional(Type.Integer({ minimum: 0 })),
  skippedBytes: Type.Optional(Type.Integer({ minimum: 0 })),
});

export type LogPlace = Static<typeof LogPlace>;

/** An edge asks for what is newer than it has; asking is its acknowledgement, but for the hosts that it names. */
export const TableRequest = Type.Object(
  {
    name: Type.String({ minLength: 1, maxLength: 80 }),
    have: Type.Integer({ minimum: 0 }),
    /** The records that this is of, empty where it knows none. Left out by an earlier edge. */
    epoch: Type.Optional(Type.String({ maxLength: 40 })),
    /** What it acknowledges, where more hosts than it may name are not as the table says; left out: `have`. */
    acknowledges: Type.Optional(Type.Integer({ minimum: 0 })),
    waitMs: Type.Integer({ minimum: 0, maximum: 30_000 }),
    /** Hosts that are not as the table says, and why: null while they are being made ready. */
    without: Type.Array(
      Type.Object(
        {
          host: Type.String({ maxLength: 300 }),
          version: Type.Integer({ minimum: 0 }),
          issue: Type.Union([IssueSchema, Type.Null()]),
        },
        { additionalProperties: false },
      ),
      { maxItems: mostWithout },
    ),
  },
  { additionalProperties: false },
);
export type TableRequest = Static<typeof TableRequest>;
export const TableAnswer = Type.Object({
  /** The records that this is of. Left out by an earlier service. */
  epoch: Type.Optional(Type.String()),
  /** These hosts are all that there are: the edge knew other records. */
  whole: Type.Optional(Type.Boolean()),
  routes: Type.Array(
    Type.Object({
      host: Type.String(),
      version: Type.Integer(),
      /** What it leads to, or another host that leads there too; null: to nothing. */
      body: Type.Unknown(),
      /** What an authority asks for under the host: the path's last piece → answer. */
      proofs: Type.Optional(Type.Record(Type.String(), Type.String())),
    }),
  ),
});
export type TableAnswer = Static<typeof TableAnswer>;

/** An edge asks for certificates that are newer than it has. */
export const CertificateRequest = Type.Object(
  {
    name: Type.String({ minLength: 1, maxLength: 80 }),
    have: Type.Integer({ minimum: 0 }),
    /** The records that this is of, empty where it knows none. Left out by an earlier edge. */
    epoch: Type.Optional(Type.String({ maxLength: 40 })),
    /** Public key (X25519, SPKI in DER, base64) for which private keys are encrypted. */
    key: Type.String({ pattern: '^[A-Za-z0-9+/]{40,100}={0,2}$' }),
    waitMs: Type.Integer({ minimum: 0, maximum: 30_000 }),
  },
  { additionalProperties: false },
);
export type CertificateRequest = Static<typeof CertificateRequest>;
export const CertificateAnswer = Type.Object({
  /** The records that this is of; the edge's versions of other records say nothing. Left out by an earlier service. */
  epoch: Type.Optional(Type.String()),
  certificates: Type.Array(
    Type.Object({
      id: Type.String(),
      version: Type.Integer(),
      /** Names of hosts that it is for; none: it is to be used no more. */
      names: Type.Array(Type.String()),
      chain: Type.String(),
      /** Private key, encrypted for the edge (wire/sealed.ts), base64. */
      sealed: Type.String(),
      /** Whether plain requests for its hosts are led to TLS: everyone trusts it. */
      trusted: Type.Boolean(),
      /** Milliseconds since the epoch. */
      from: Type.Number(),
      until: Type.Number(),
    }),
  ),
});
export type CertificateAnswer = Static<typeof CertificateAnswer>;
