/** Settings of processes, from TSUNAGI_* variables: each checked before anything starts. docs/operating.md lists them. */
import { Type, type TSchema } from '@sinclair/typebox';
import { Ajv } from 'ajv';
import { CodedError } from '../../core/errors/errors.js';
import { takesKinds } from '../../core/states.js';
import { oneOf } from '../../wire/parts.js';

const ms = Type.Integer({ minimum: 1, maximum: 2_147_483_647 });
const bytes = Type.Integer({ minimum: 1, maximum: Number.MAX_SAFE_INTEGER });
/** Bytes, or null for as much as there is. */
const room = Type.Union([bytes, Type.Null()]);
const count = Type.Integer({ minimum: 1, maximum: 1_000_000_000 });
const server = Type.String({ pattern: '^postgres(ql)?://' });
const some = <T extends Record<string, TSchema>>(properties: T) =>
  Type.Partial(Type.Object(properties), { additionalProperties: false });

const wait = Type.Integer({ minimum: 0, maximum: 2_147_483_647 });

const schemas = {
  TIMING: some({
    lease: ms,
    sweep: ms,
    ready: ms,
    warm: Type.Integer({ minimum: 0, maximum: 2_147_483_647 }),
    drain: ms,
    space: ms,
    stray: ms,
    awake: Type.Integer({ minimum: 0, maximum: 2_147_483_647 }),
    idle: ms,
    longest: ms,
    gather: ms,
    few: wait,
  }),
  KEEP: some({
    runs: Type.Integer({ minimum: 0 }),
    releases: Type.Integer({ minimum: 0 }),
    reverts: Type.Integer({ minimum: 0 }),
    grace: Type.Integer({ minimum: 0 }),
    logs: ms,
    free: Type.Integer({ minimum: 0 }),
  }),
  LIMITS: some({
    memory: bytes,
    processes: count,
    cpu: Type.Union([Type.Number({ exclusiveMinimum: 0 }), Type.Null()]),
    disk: bytes,
    files: count,
    tmp: bytes,
    database: bytes,
  }),
  CLUSTERS: some({ standing: server, review: server, untrusted: server }),
  DATABASE_SIZES: some({ standing: room, review: room, untrusted: room }),
  BOUNDS: some({
    perClient: count,
    perInstance: count,
    buffered: bytes,
    window: ms,
    leastBytes: Type.Integer({ minimum: 0 }),
  }),
  MAIL: some({
    host: Type.String({ minLength: 1 }),
    port: Type.Integer({ minimum: 1, maximum: 65_535 }),
    secure: Type.Boolean(),
    user: Type.String(),
    password: Type.String(),
    from: Type.String({ pattern: '^[^@\\s]+@[^@\\s]+$' }),
  }),
  PATIENCE: some({ poorMs: wait, calmMs: wait, mailMs: wait }),
  ACME: some({
    directory: Type.String({ pattern: '^https://' }),
    contact: Type.String({ pattern: '^[^@\\s]+@[^@\\s]+$' }),
    binding: Type.Object({ kid: Type.String(), key: Type.String() }, { additionalProperties: false }),
    root: Type.String({ pattern: '^/' }),
  }),
  TASK_SETTINGS: Type.Record(Type.String({ pattern: '^[A-Za-z_][A-Za-z0-9_]*$' }), Type.String()),
} as const;
export type JsonSetting = keyof typeof schemas;

/** Addresses or ranges; `loopback` and the other names that proxy-addr knows. */
const list = Type.Array(Type.String({ pattern: '^([0-9A-Fa-f.:]+(/\\d{1,3})?|loopback|linklocal|uniquelocal)$' }));
const ranges = Type.Array(Type.String({ pattern: '^[0-9A-Fa-f.:]+(/\\d{1,3})?$' }));
const servers = Type.Array(Type.String({ pattern: '^(\\[[0-9A-Fa-f:]+\\]|[0-9A-Fa-f.:]+)(:\\d{1,5})?$' }));
const takes = Type.Array(oneOf(takesKinds), { minItems: 1 });
const port = Type.Integer({ minimum: 1, maximum: 65_535 });

const ajv = new Ajv({ allErrors: true, allowUnionTypes: true });

export interface Settings {
  get(key: string): string | undefined;
  need(key: string): string;
  /** A whole number of this range; `otherwise` where it is left out. */
  number<T extends number | null>(key: string, minimum: number, maximum: number, otherwise: T): number | T;
  port(key: string): number;
  json<T>(key: JsonSetting): Partial<T>;
  /** Names separated by commas; null where it is left out. */
  takes(): (typeof takesKinds)[number][] | null;
  addresses(key: string): string[];
  /** Addresses and ranges alone. */
  ranges(key: string): string[];
  /** Addresses of servers, with or without a port. */
  servers(key: string): string[];
}

/** Settings of every process: `serve` itself gives the first four of them. */
const common = ['DATA', 'PORT', 'URL', 'TOKEN', 'LOG_LEVEL', 'STRICT_LOCKS'];

/** Which process reads which setting. Each gets its own ones alone: some hold passwords. */
const readBy: Record<string, readonly string[]> = {
  service: [
    ...common,
    'DATABASE',
    'HOST',
    'DOOR',
    'PUBLIC_URL',
    'STANDING_DOMAIN',
    'REVIEW_DOMAIN',
    'UNTRUSTED_DOMAIN',
    'EDGE_SCHEME',
    'EDGE_PORT',
    'EDGE_TLS_PORT',
    'TIMING',
    'KEEP',
    'NETWORKS',
    'CLUSTERS',
    'DATABASE_SIZES',
    'AUTHORITY',
    'ACME',
    'MAIL',
    'PATIENCE',
    'RESOLVERS',
    'EDGE_ADDRESSES',
    'CERTIFICATES',
    'TRUSTED_PROXIES',
    'CONSOLE',
    'CRASH_FILE',
  ],
  agent: [
    ...common,
    'NAME',
    'ADDRESS',
    'NETWORK',
    'TAKES',
    'SLOTS',
    'INSTANCES',
    'MIN_FREE',
    'FLOOR',
    'LOG_LIMIT',
    'SILENCE',
    'TIDY_EVERY',
    'CHROMIUM',
    'RESOURCES',
    'UNTRUSTED_RESOURCES',
    'LIMITS',
    'TASK_SETTINGS',
  ],
  edge: [...common, 'NAME', 'HOST', 'TLS_PORT', 'PUBLIC_TLS_PORT', 'BOUNDS', 'TRUSTED_PROXIES', 'PROXY_PROTOCOL'],
};

/** Settings of the client, which may be set where `serve` is started. */
const clientSettings = ['SOURCE_PASSWORD'];

/** Of these variables those for a process: of the settings its own ones alone; what is no setting goes to all. */
export const variablesFor = (process: string, env: NodeJS.ProcessEnv): Record<string, string> =>
  Object.fromEntries(
    Object.entries(env).flatMap(([name, value]) => {
      const key = /^TSUNAGI_(.*)$/.exec(name)?.[1];
      const its = key === undefined || readBy[process]?.includes(key);
      return value === undefined || !its ? [] : [[name, value]];
    }),
  );

/** Names of TSUNAGI_* variables that no process reads: most likely a slip. */
export const unknownVariables = (env: NodeJS.ProcessEnv): string[] => {
  const known = new Set([...Object.values(readBy).flat(), ...clientSettings].map((key) => `TSUNAGI_${key}`));
  return Object.keys(env).filter((name) => name.startsWith('TSUNAGI_') && !known.has(name));
};

/** `name` is the process that reads them. Throws `setting_wrong`, which names the variable and what is expected. */
export function settingsOf(name: string, env: NodeJS.ProcessEnv = process.env): Settings {
  const own = readBy[name];
  const get = (key: string) => {
    if (own && !own.includes(key))
      throw new Error(`the ${name} reads TSUNAGI_${key}, which is not in its list (settings.ts)`);
    return env[`TSUNAGI_${key}`] || undefined;
  };
  const wrong = (key: string, detail: string) => new CodedError('setting_wrong', { name: `TSUNAGI_${key}`, detail });
  const need = (key: string) => {
    const value = get(key);
    if (value === undefined)
      throw new CodedError('setting_wrong', { name: `TSUNAGI_${key}`, detail: `the ${name} needs it` });
    return value;
  };
  const checked = <T>(key: string, schema: TSchema, value: unknown): T => {
    if (ajv.validate(schema, value)) return value as T;
    const [first] = ajv.errors ?? [];
    const of = first?.instancePath.slice(1).replaceAll('/', '.') || String(first?.params.additionalProperty ?? '');
    throw wrong(key, `${of ? `${of} ` : ''}${first?.message ?? 'is not as described'}`);
  };
  const number = (key: string, schema: TSchema): number => {
    const text = need(key).trim();
    return checked(key, schema, /^-?\d+$/.test(text) ? Number(text) : text);
  };
  const words = (key: string) =>
    (get(key) ?? '')
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean);
  return {
    get,
    need,
    number: (key, minimum, maximum, otherwise) =>
      get(key) === undefined ? otherwise : number(key, Type.Integer({ minimum, maximum })),
    port: (key) => number(key, port),
    json(key) {
      const text = get(key);
      if (text === undefined) return {};
      let value: unknown;
      try {
        value = JSON.parse(text);
      } catch {
        throw wrong(key, 'it is not JSON');
      }
      return checked(key, schemas[key], value);
    },
    takes: () => (get('TAKES') === undefined ? null : checked('TAKES', takes, words('TAKES'))),
    addresses: (key) => checked(key, list, words(key)),
    ranges: (key) => checked(key, ranges, words(key)),
    servers: (key) => checked(key, servers, words(key)),
  };
}
