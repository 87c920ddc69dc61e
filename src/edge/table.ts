/**
 * The edge's table: host → route, from the service, with the last one kept on disk.
 *
 * Each host is taken by itself: one whose bytes are not here yet, or can't be used, keeps what it had, is named to the service with
 * the reason, and is tried again; the others go on.
 */
import { backoff } from '../core/backoff.js';
import { join } from 'node:path';
import { LRUCache } from 'lru-cache';
import { type Static, Type } from '@sinclair/typebox';
import type { Alias, Route, SitePath } from '../core/cutover/route.js';
import { CodedError, issue, type Issue } from '../core/errors/errors.js';
import { makeClient } from '../wire/rooms/client.js';
import { readKept, writeKept } from '../wire/rooms/kept.js';
import { Nullable } from '../wire/parts.js';
import { mostWithout } from '../wire/rooms/most.js';
import type { TableAnswer, TableRequest } from '../wire/rooms/work.js';
import type { Sites } from './sites.js';

export interface Table {
  /** What a host leads to, and the host that the service has given it: that of all names of one environment. */
  find(host: string): { host: string; route: Route } | null;
  /** What an authority asks for under a host (RFC 8555, 8.3). */
  proof(host: string, token: string): string | null;
  /** What was open of a host that falls asleep is over. */
  emptied(host: string): void;
  close(): Promise<void>;
}

const Path = { at: Type.String(), part: Type.String() };
const Site = Type.Object({
  ...Path,
  kind: Type.Literal('site'),
  bytes: Type.String(),
  layers: Type.Array(Type.String()),
  root: Type.String(),
  fallback: Nullable(Type.String()),
  missing: Nullable(Type.String()),
  headers: Type.Array(Type.Object({ at: Type.String(), set: Type.Record(Type.String(), Type.String()) })),
  redirects: Type.Array(Type.Object({ from: Type.String(), to: Type.String(), permanent: Type.Boolean() })),
  settings: Nullable(Type.Object({ at: Type.String(), values: Type.Record(Type.String(), Type.String()) })),
});
const Server = Type.Object({
  ...Path,
  kind: Type.Literal('server'),
  strip: Type.Boolean(),
  sticky: Nullable(Type.String()),
  instances: Type.Array(Type.Object({ id: Type.String(), address: Type.String(), port: Type.Integer() })),
});
const KeptTarget = Type.Object({
  deployment: Type.String(),
  release: Type.String(),
  commit: Type.String(),
  share: Type.Integer(),
  until: Nullable(Type.Number()),
  paths: Type.Array(Type.Union([Site, Server])),
});
const KeptRoute = Type.Object({
  environment: Type.String(),
  targets: Type.Array(KeptTarget),
  asleep: Type.Optional(Type.Literal(true)),
  visitors: Type.Optional(Type.String()),
  forced: Type.Optional(Type.String()),
  judged: Type.Optional(
    Type.Object({
      stage: Type.String(),
      now: Type.String(),
      old: Nullable(Type.String()),
      boundMs: Nullable(Type.Number()),
      until: Nullable(Type.Number()),
    }),
  ),
  mirror: Type.Optional(
    Type.Object({
      stage: Type.String(),
      target: Type.Omit(KeptTarget, ['share', 'until']),
      paths: Type.Array(Type.String()),
      same: Type.Array(Type.String()),
    }),
  ),
  next: Type.Optional(Type.Omit(KeptTarget, ['share', 'until'])),
  uses: Type.Optional(
    Type.Object({
      requests: Type.Boolean(),
      connections: Type.Boolean(),
      except: Type.Object({
        paths: Type.Array(Type.String()),
        headers: Type.Record(Type.String(), Type.Array(Type.String())),
      }),
    }),
  ),
});
const Kept = Type.Object({
  version: Type.Integer(),
  /** The records that the version is of. */
  epoch: Type.Optional(Type.String()),
  routes: Type.Record(Type.String(), KeptRoute),
  aliases: Type.Optional(Type.Record(Type.String(), Type.String())),
});
type Kept = Static<typeof Kept>;

export interface TableOptions {
  url: string;
  token: string;
  name: string;
  folder: string;
  sites: Sites;
  /** How much is open of a host: one that sleeps is taken over when that is over. */
  open(host: string): number;
  /** A host sleeps from now on, or is awake again. */
  turned(host: string, asleep: boolean): void;
  log: { info(data: object, text: string): void; warn(data: object, text: string): void };
}

/** Milliseconds for which the service may keep a question open; what is waited for a host before the others are acknowledged; and until a refused one is tried again. */
const waitMs = 5_000;
const soonMs = 1_000;
const againMs = 3_000;

/** A host that is not as the table says. */
interface Open {
  version: number;
  route: Route;
  /** Why not; null while it is being made ready. */
  why: Issue | null;
}

export function openTable(options: TableOptions): Table {
  const { sites, log } = options;
  const file = join(options.folder, 'table.json');
  const client = makeClient(options.url, options.token);
  const kept = load(file, sites);
  const routes = new Map(Object.entries(kept.routes));
  const aliases = new Map(Object.entries(kept.aliases ?? {}));
  /** Host → path's last piece → answer; asked for within minutes, so that nothing of it is kept. */
  const proofs = new Map<string, Record<string, string>>();
  const open = new Map<string, Open>();
  /** Host that falls asleep → the version that says so, while something of it is open. */
  const draining = new Map<string, number>();
  let { version, epoch = '' } = kept;
  let stopped = false;
  let asking: AbortController | null = null;
  /** Something is to be told before the question that is asked has its answer. */
  let hurry = false;
  /** Replaced sites that were asked for lately: once is enough. */
  const tried = new LRUCache<string, true>({ max: 1_000 });

  const save = (): void => {
    // After a restart the service tells again what is open now.
    const from = Math.min(version, ...[...open.values()].map((one) => one.version - 1));
    writeKept(file, {
      version: from,
      epoch,
      routes: Object.fromEntries(routes),
      aliases: Object.fromEntries(aliases),
    } satisfies Kept);
    const wanted = [...routes.values(), ...[...open.values()].map((one) => one.route)];
    sites.keepOnly(wanted.flatMap((route) => [...sitesOf(route), ...replacedOf(route)]).map((path) => path.bytes));
    for (const route of routes.values()) fetchReplaced(route);
  };
  const fetchBlob = (digest: string) => client.getStream(`/api/edge/blobs/${digest}`);
  /** Files of replaced sites are good to have: nothing waits for them, and where they are gone they are gone. */
  const fetchReplaced = (route: Route): void => {
    for (const { bytes, layers } of replacedOf(route))
      if (!sites.has(bytes) && !tried.has(bytes)) {
        tried.set(bytes, true);
        sites.ready(bytes, layers, fetchBlob).catch(() => {});
      }
  };
  /** Takes a host over. What is open of one that sleeps now comes to its end; whoever waits for one that is awake goes on. */
  const put = (host: string, route: Route, at: number): void => {
    const before = routes.get(host);
    routes.set(host, route);
    draining.delete(host);
    if (route.asleep) {
      // Also where it was before: it may have been awake between the two, and somebody with it.
      options.turned(host, true);
      if (options.open(host) > 0) draining.set(host, at);
    } else if (before?.asleep) options.turned(host, false);
  };
  /** Makes a host ready and takes it over; what is newer meanwhile wins. */
  const prepare = async (host: string, one: Open): Promise<void> => {
    try {
      for (const path of sitesOf(one.route)) await sites.ready(path.bytes, path.layers, fetchBlob);
      if (open.get(host) !== one) return;
      put(host, one.route, one.version);
      open.delete(host);
      save();
    } catch (error) {
      if (stopped || open.get(host) !== one) return;
      const known =
        error instanceof CodedError
          ? error.issue
          : issue('unavailable', { detail: String((error as Error).message).slice(0, 200) });
      if (one.why?.code !== known.code)
        log.warn({ host, issue: known }, 'a host could not be taken over; it stays as it was');
      one.why = known;
      setTimeout(() => open.get(host) === one && void prepare(host, one), againMs).unref();
    }
  };
  const take = async (answer: TableAnswer): Promise<void> => {
    const begun: Promise<void>[] = [];
    epoch = answer.epoch ?? '';
    if (answer.whole) {
      // Other records than those that this table is of: what they do not name leads nowhere any more.
      version = 0;
      const named = new Set(answer.routes.map((row) => row.host));
      for (const host of [...routes.keys(), ...aliases.keys()])
        if (!named.has(host)) {
          routes.delete(host);
          aliases.delete(host);
        }
      for (const known of [open, draining, proofs]) known.clear();
    }
    for (const row of answer.routes) {
      version = Math.max(version, row.version);
      const body = row.body as Route | Alias | null;
      open.delete(row.host);
      // An earlier service says nothing of them.
      if (row.proofs && Object.keys(row.proofs).length) proofs.set(row.host, row.proofs);
      else proofs.delete(row.host);
      if (body && 'alias' in body) {
        aliases.set(row.host, body.alias);
        routes.delete(row.host);
        continue;
      }
      aliases.delete(row.host);
      const route = body;
      if (!route) {
        draining.delete(row.host);
        routes.delete(row.host);
      } else if (sitesOf(route).every((path) => sites.has(path.bytes))) put(row.host, route, row.version);
      else {
        const one: Open = { version: row.version, route, why: null };
        open.set(row.host, one);
        begun.push(prepare(row.host, one));
      }
    }
    await Promise.race([Promise.all(begun), new Promise((resolve) => setTimeout(resolve, soonMs).unref())]);
    if (answer.routes.length || answer.whole) save();
  };
  const loop = async (): Promise<void> => {
    let failures = 0;
    // Never a question that waits at first: the service learns at once what this edge has.
    let wait = 0;
    while (!stopped) {
      try {
        asking = new AbortController();
        hurry = false;
        const without = [
          ...[...open].map(([host, one]) => ({ host, version: one.version, issue: one.why as never })),
          ...[...draining].map(([host, at]) => ({ host, version: at, issue: null as never })),
        ].sort((a, b) => a.version - b.version);
        // Of those that it cannot name it acknowledges nothing.
        const unnamed = without[mostWithout];
        const body: TableRequest = {
          name: options.name,
          have: version,
          epoch,
          ...(unnamed ? { acknowledges: Math.min(version, unnamed.version - 1) } : {}),
          waitMs: wait,
          without: without.slice(0, mostWithout),
        };
        const answer = await client.post<TableAnswer>('/api/edge/table', body, { signal: asking.signal });
        await take(answer);
        // What is open is told again soon: somebody waits for it.
        wait = answer.routes.length ? 0 : open.size + draining.size ? soonMs : waitMs;
        failures = 0;
      } catch (error) {
        if (stopped) return;
        if (hurry) continue;
        failures++;
        if (failures === 1)
          log.warn(
            { error: error instanceof CodedError ? error.issue : String(error) },
            'the service does not answer; the last table stays',
          );
        await new Promise((resolve) => setTimeout(resolve, backoff('poll', failures)));
        wait = 0;
      }
    }
  };
  const running = loop();
  return {
    find(asked) {
      const host = aliases.get(asked) ?? asked;
      const route = routes.get(host);
      return route ? { host, route } : null;
    },
    proof: (host, token) => {
      const all = proofs.get(host);
      return all && Object.hasOwn(all, token) ? (all[token] ?? null) : null;
    },
    emptied(host) {
      if (!draining.delete(host)) return;
      hurry = true;
      asking?.abort();
    },
    async close() {
      stopped = true;
      asking?.abort();
      await running;
      await client.close();
    },
  };
}

const sitesWhere = (route: Route, shared: boolean): SitePath[] =>
  route.targets
    .filter((target) => target.share > 0 === shared)
    .flatMap((target) => target.paths)
    .filter((path): path is SitePath => path.kind === 'site');
/** Sites that get requests, now or next, without which a host can't be taken over. */
const sitesOf = (route: Route) => [
  ...sitesWhere(route, true),
  ...(route.next?.paths ?? []).filter((path): path is SitePath => path.kind === 'site'),
];
const replacedOf = (route: Route) => sitesWhere(route, false);

/** What was kept; without the hosts whose bytes are gone, which are then asked for from the beginning. */
function load(file: string, sites: Sites): Kept {
  const { version, epoch = '', routes, aliases = {} } = readKept(file, Kept) ?? { version: 0, routes: {} };
  const whole = Object.entries(routes).filter(([, route]) => sitesOf(route).every((path) => sites.has(path.bytes)));
  return {
    version: whole.length === Object.keys(routes).length ? version : 0,
    epoch,
    routes: Object.fromEntries(whole),
    aliases,
  };
}
