/** Starts the service: records, engine, HTTP. */
import { openSteps } from '../engine/runs/steps.js';
import { volumeKind } from '../engine/resources/volumes.js';
import { type Clusters, openKinds } from '../engine/resources/kinds.js';
import { openTold } from '../engine/figures/told.js';
import { addressCheck } from '../engine/outward.js';
import { openStood } from '../engine/environments/stood.js';
import { openTakers } from '../engine/runs/takers.js';
import { fullDisk } from '../blobs/disk.js';
import { defaultKeeping } from '../engine/upkeep/space.js';
import { setMaxListeners } from 'node:events';
import { chmodSync, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import pino from 'pino';
import { openBlobs } from '../blobs/store.js';
import { openApart } from '../engine/apart/apart.js';
import {
  type Addresses,
  type Context,
  defaultTiming,
  type Keeping,
  makeCache,
  type Timing,
} from '../engine/context.js';
import { startEngine } from '../engine/engine.js';
import { newToken, openKeys, tokenHash } from '../keys/keys.js';
import { openReleaseKeys } from '../keys/releases.js';
import { takesKinds } from '../core/states.js';
import { openRecords } from '../records/database.js';
import { recordEvents } from '../records/events.js';
import { settleEpoch } from '../records/installation.js';
import { migrate } from '../records/migrate.js';
import { addPerson, addSignIn, addToken, countPeople, firstOwner } from '../records/callers/people.js';
import { type DatabaseSizes, defaultSizes } from '../core/advance/sizes.js';
import { makeApp } from './app.js';
import { makeKnown } from './known.js';
import { type MailSettings, openMail } from '../channels/mail.js';
import { defaultPatience, type Patience } from '../core/alerts/conditions.js';
import { openResolver } from '../domains/resolver.js';
import type { Names } from '../engine/domains/names.js';
import { openDoors } from './doors.js';
import { makeHub } from './hub.js';
import type { Service } from './server.js';

export interface ServiceOptions {
  database: string;
  /** Folder of keys, blobs and repositories; shared by all services of one database. */
  data: string;
  host: string;
  port: number;
  /** Address under which people reach it; default: host and port. */
  url?: string;
  /** Address under which agents reach this very service, where several share one address. */
  door?: string;
  addresses: Addresses;
  timing?: Partial<Timing>;
  /** What is kept and how much room there must be; what is left out stays as it is by default. */
  keeping?: Partial<Keeping>;
  /** Where environments have their databases. */
  clusters?: Clusters;
  /** Bytes that databases may hold, by place. */
  sizes?: Partial<DatabaseSizes>;
  /** Private networks that may be connected to for who asks. */
  networks?: string[];
  /** Who certifies names of addresses; default: nobody. */
  authority?: Names['authority'];
  /** The server by which mail goes out; default: none. */
  mail?: MailSettings;
  patience?: Partial<Patience>;
  /** Name servers that are asked for proofs; default: those of the system. */
  resolvers?: string[];
  /** Addresses of the edges as the outside knows them. */
  edges?: string[];
  /** Folder of an operator's certificates. */
  certificates?: string;
  /** Addresses and ranges of proxies whose word on who asks is taken; default none. */
  trustedProxies?: string[];
  console: string;
  logLevel?: string;
  crash?: (point: string) => void;
}

export interface RunningService {
  url: string;
  context: Context;
  close(): Promise<void>;
}

export async function startService(options: ServiceOptions): Promise<RunningService> {
  // Repositories, stored bytes and keys are nobody's but the service's.
  mkdirSync(options.data, { recursive: true, mode: 0o700 });
  chmodSync(options.data, 0o700);
  const log = pino({ name: 'service', level: options.logLevel ?? 'info' }, pino.destination({ fd: 2, sync: true }));
  const records = openRecords({ url: options.database, ...(options.crash ? { crash: options.crash } : {}) });
  await migrate(records);
  await records.transition('records.settled', async (db) => {
    if (!(await settleEpoch(db)).restored) return;
    await recordEvents(db, { type: 'records.restored', project: null, subject: 'records', actor: 'engine' });
  });
  const url = options.url ?? `http://${options.host}:${options.port}`;
  const keeping = { ...defaultKeeping, ...options.keeping };
  const keys = openKeys(join(options.data, 'keys'));
  const timing = { ...defaultTiming, ...options.timing };
  const context: Context = {
    records,
    blobs: await openBlobs(join(options.data, 'blobs')),
    keys,
    releaseKeys: openReleaseKeys(join(options.data, 'keys')),
    url,
    door: options.door ?? null,
    repositories: join(options.data, 'repositories'),
    addresses: options.addresses,
    timing,
    keeping,
    full: () => fullDisk(options.data, keeping.free, 'the service'),
    log,
    apart: openApart(),
    now: Date.now,
    trees: makeCache(32),
    beside: makeCache(2_048),
    changes: makeCache(64),
    scenes: makeCache(256),
    steps: openSteps(() => context),
    takers: openTakers(),
    stood: openStood(),
    told: openTold(),
    kinds: openKinds(
      options.clusters ?? {},
      keys,
      addressCheck(options.networks ?? []),
      volumeKind({ records, timing, now: Date.now }),
    ),
    sizes: { ...defaultSizes, ...options.sizes },
    channels: { mail: openMail(options.mail ?? null), check: addressCheck(options.networks ?? []) },
    patience: { ...defaultPatience, ...options.patience },
    names: {
      resolver: openResolver(options.resolvers ?? []),
      authority: options.authority ?? { kind: 'none' },
      edges: options.edges ?? [],
      folder: options.certificates ?? null,
    },
  };
  mkdirSync(context.repositories, { recursive: true });
  const hub = makeHub();
  const closing = new AbortController();
  // Each open request listens (signals.ts); Node.js would warn of more than ten.
  setMaxListeners(mostOpen, closing.signal);
  const service: Service = {
    context,
    hub,
    closing: closing.signal,
    url,
    callers: makeKnown(hub, 'callers', context.now),
    agents: makeKnown(hub, 'callers', context.now),
    doors: openDoors(() => service),
  };
  const app = await makeApp(service, { console: options.console, trustedProxies: options.trustedProxies ?? [] });
  const engine = await startEngine(context);
  const listening = await records.listen((topic) => {
    hub.heard(topic);
    engine.heard(topic);
  });
  hub.heard('*');
  await app.listen({ host: options.host, port: options.port });
  log.info({ url }, 'the service listens');
  return {
    url,
    context,
    async close() {
      closing.abort();
      await app.close();
      await engine.stop();
      await listening.close();
      await context.apart.close();
      await context.kinds.close();
      await records.close();
    },
  };
}

/** Milliseconds for which a one-time sign-in is good. */
const signInMs = 30 * 60_000;

/** Requests that listen for the end of the service; more are a sign that some stay listening when they are over. */
const mostOpen = 2_000;

/** The first owner, and a fresh one-time sign-in for it. */
export async function makeSignIn(database: string, owner: string): Promise<{ code: string; fresh: boolean }> {
  const records = openRecords({ url: database, pool: 1 });
  try {
    await migrate(records);
    const fresh = (await countPeople(records)) === 0;
    const person = (await firstOwner(records)) ?? {
      id: await records.transition('person.added', (db) => addPerson(db, owner, 'owner', 'first start')),
      name: owner,
    };
    const code = newToken('code');
    await addSignIn(records, tokenHash(code), person.id, new Date(Date.now() + signInMs));
    return { code, fresh };
  } finally {
    await records.close();
  }
}

const kinds = ['person', 'agent', 'edge'] as const;
type Each = Record<(typeof kinds)[number], string>;

/** A token for the first owner, an agent and an edge, of these names, made beside the service on its own machine. */
export async function makeTokens(database: string, names: Each): Promise<Each> {
  const records = openRecords({ url: database, pool: 1 });
  try {
    const person = (await firstOwner(records))?.id ?? null;
    const tokens: Each = { person: '', agent: '', edge: '' };
    for (const kind of kinds) {
      tokens[kind] = newToken(kind);
      await records.transition('token.added', (db) =>
        addToken(
          db,
          {
            hash: tokenHash(tokens[kind]),
            kind,
            name: names[kind],
            person: kind === 'person' ? person : null,
            role: kind === 'person' ? 'owner' : null,
            project: null,
            expires: null,
            // The agent of this very machine does everything.
            grant:
              kind === 'agent'
                ? { takes: [...takesKinds], address: '127.0.0.1', ports: { from: 20_000, to: 31_999 } }
                : null,
          },
          'first start',
        ),
      );
    }
    return tokens;
  } finally {
    await records.close();
  }
}
