/** The edge: the outside's requests, by host and path, to sites and instances. Goes on while the service is away. */
import { mkdirSync } from 'node:fs';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { join } from 'node:path';
import pino from 'pino';
import { createHash, randomInt } from 'node:crypto';
import {
  allTraffic,
  below,
  maintenanceOf,
  type Mirror,
  pathOf,
  type Route,
  type RoutePath,
  type ServerPath,
  type Target,
  targetOf,
} from '../core/cutover/route.js';
import { openTally } from '../core/tally.js';
import { defaultBounds, type EdgeBounds, watchPace } from './bounds.js';
import { noCertificates, openCertificates } from './certificates.js';
import { openTls, shownTo } from './tls.js';
import { clientKey, openCallers } from './callers.js';
import { makeClient } from '../wire/rooms/client.js';
import { freshNote, type Note, openCounter } from './count.js';
import { asksForForced, followForced, forcedTarget } from './cutover/forced.js';
import { openJudged } from './cutover/judged.js';
import { openMirror } from './cutover/mirror.js';
import { type Visitor, visitorOf } from './cutover/visitors.js';
import { openSleepers, wakePath } from './reviews/asleep.js';
import { answerFlaw, askAgain, asksForWebSocket, flawOf } from './flaws.js';
import { askedFor, callerOf, hasGone, hostOf, isSecure, noteCaller, refuse } from './headers.js';
import { gatePath, type Let, openGate, saysPicture } from './reviews/gate.js';
import { asksForEvents, endEvents, openInside, meansOf, noUse } from './reviews/inside.js';
import { makeProxy } from './proxy.js';
import { closedRetry, navigates, serveMaintenance, serveSite } from './site.js';
import { openSites } from './sites.js';
import { openTable, type Table } from './table.js';
import { makeUpgrades } from './tunnels.js';

export interface EdgeOptions {
  url: string;
  token: string;
  name: string;
  folder: string;
  host: string;
  port: number;
  /** Where it listens for TLS; null: it does not. */
  tlsPort?: number | null;
  /** The port under which the outside reaches that; default: the same. */
  publicTlsPort?: number | null;
  /** What clients may hold open; what is left out stays as it is by default. */
  bounds?: Partial<EdgeBounds>;
  /** Addresses and ranges of proxies whose word on who asks is taken; default: none. */
  trustedProxies?: readonly string[];
  /** They say it by the PROXY protocol, not in headers. */
  proxyProtocol?: boolean;
  logLevel?: string;
}

export interface RunningEdge {
  close(): Promise<void>;
}

/** A request on its way, as it is counted. */
interface Passing {
  host: string;
  route: Route;
  target: Target;
  part: string;
  asked: { path: string };
  visitor: Visitor | null;
}

/** Under which an authority asks for its proof (RFC 8555, 8.3). */
const proofPath = '/.well-known/acme-challenge/';
const asksForProof = ({ url = '', method }: IncomingMessage): boolean =>
  url.startsWith(proofPath) && (method === 'GET' || method === 'HEAD');

export async function startEdge(options: EdgeOptions): Promise<RunningEdge> {
  const log = pino(
    { name: `edge ${options.name}`, level: options.logLevel ?? 'info' },
    pino.destination({ fd: 2, sync: true }),
  );
  mkdirSync(options.folder, { recursive: true, mode: 0o700 });
  const bounds = { ...defaultBounds, ...options.bounds };
  const sites = openSites(join(options.folder, 'sites'));
  const inside = openInside((host) => table.emptied(host));
  const table: Table = openTable({
    ...options,
    sites,
    log,
    open: inside.open,
    turned(host, asleep) {
      if (asleep) inside.clear(host);
      else sleepers.awake(host);
    },
  });
  const certificates = options.tlsPort ? openCertificates({ ...options, log }) : noCertificates;
  const proxy = makeProxy(bounds);
  const client = makeClient(options.url, options.token);
  const counter = openCounter(client, options.name, log, inside.used);
  const judged = openJudged((slices) => counter.apart(slices));
  const mirror = openMirror((all) => counter.apart(all.map((one) => ({ ...one, counts: [] }))));
  const sleepers = openSleepers(client, options.name);
  const gate = openGate(client, options.name);
  const clients = openTally(bounds.perClient);
  const callers = openCallers(options.trustedProxies ?? [], options.proxyProtocol ?? false);
  const find = (request: IncomingMessage) => {
    const { host = '', route = null } = table.find(hostOf(request)) ?? {};
    const asked = askedFor(request.url ?? '/');
    const visitor = route?.visitors === undefined ? null : visitorOf(route.visitors, host, request);
    const forced = route && forcedTarget(route, host, request);
    const target = forced ?? (route && targetOf(route, visitor ? visitor.number : randomInt(allTraffic)));
    return {
      host,
      route,
      asked,
      visitor: forced ? null : visitor,
      forced: forced !== null,
      target,
      place: target && asked ? pathOf(target, asked.path) : null,
    };
  };
  const seen = (place: ServerPath, { path, search }: { path: string; search: string }) =>
    (place.strip ? below(place.at, path) : path) + search;
  /** Counts an answer when it is over, however that came. What a client broke off says nothing of the program's time. */
  const counted = (
    request: IncomingMessage,
    response: ServerResponse,
    { host, route, target, part, asked, visitor }: Passing,
  ): Note => {
    const [note, began] = [freshNote(visitor?.cookie ?? null), performance.now()];
    // One connection of HTTP/2 carries the answers of many requests.
    const shared = request.httpVersionMajor === 2;
    response.once('close', () => {
      const whole = response.writableFinished;
      const answered = note.answeredAt ?? (whole ? performance.now() : null);
      const error = note.unanswered || (response.headersSent && response.statusCode >= 500);
      const ms = answered === null || note.unanswered ? null : answered - began;
      const { instance } = note;
      counter.count({
        host,
        deployment: target.deployment,
        part,
        instance,
        error,
        bytes: shared ? note.bytes || Number(response.getHeader('content-length') ?? 0) : socket.bytesWritten - written,
        ms,
      });
      // Of who leaves nothing is known, a 4xx is the visitor's, and a stream of events has no end to wait for.
      const says = (whole || note.unanswered) && (error || response.statusCode < 400) && !asksForEvents(request);
      if (route.judged && says) {
        // Whoever has just got a number may not keep it: they are one with each request.
        const number = visitor?.cookie === null ? visitor.number : null;
        judged.count({
          host,
          judged: route.judged,
          target,
          part,
          path: asked.path,
          instance,
          visitor: number,
          error,
          ms,
        });
      }
    });
    const { socket } = request;
    const written = socket.bytesWritten;
    return note;
  };
  /** Its copy goes when it is answered as a whole: nobody waits for that. */
  const mirrored = (
    host: string,
    to: Mirror,
    asked: { path: string; search: string },
    request: IncomingMessage,
    response: ServerResponse,
    note: Note,
  ): void => {
    const began = performance.now();
    if (mirror.hashes(to, asked.path)) note.digest = createHash('sha256');
    response.once('close', () => {
      if (!response.writableFinished && !note.unanswered) return;
      mirror.copy(host, to, request, {
        path: asked.path,
        note,
        status: response.statusCode,
        ms: note.answeredAt === null ? null : note.answeredAt - began,
        visible: (place) => seen(place, asked),
      });
    });
  };
  const proof = (host: string, { url = '' }: IncomingMessage, response: ServerResponse) => {
    const text = table.proof(host, url.slice(proofPath.length));
    if (text === null) return refuse(response, 404, 'Nobody asks for this.');
    response.writeHead(200, { 'content-type': 'application/octet-stream', 'cache-control': 'no-store' }).end(text);
  };
  const toTls = (host: string, { path, search }: { path: string; search: string }, response: ServerResponse): void => {
    const port = options.publicTlsPort ?? options.tlsPort ?? 443;
    const location = `https://${host}${port === 443 ? '' : `:${port}`}${path}${search}`;
    response.writeHead(308, { location, 'cache-control': 'no-store', 'content-length': 0 }).end();
  };
  /** While the programs are stopped: a page for whoever comes to one; files of sites as ever; nothing else. False: as ever. */
  const closedTo = (
    request: IncomingMessage,
    response: ServerResponse,
    { target, asked, place }: { target: Target; asked: { path: string }; place: RoutePath | null },
  ): boolean => {
    const reads = request.method === 'GET' || request.method === 'HEAD';
    if (place?.kind === 'site' && !(reads && navigates(request))) return false;
    const none = () => {
      response.setHeader('retry-after', closedRetry);
      refuse(response, 503, 'This is being worked on; it answers again in a moment.');
    };
    const site = reads && navigates(request) ? maintenanceOf(target, asked.path) : null;
    if (!site) none();
    else
      serveMaintenance(sites, site, request, response)
        .then((shown) => {
          if (!shown) none();
        })
        .catch(() => none());
    return true;
  };
  /** `judged`: what the gate has said of it; null: it was not asked. */
  const serve = (request: IncomingMessage, response: ServerResponse, judged: Let | null) => {
    const flaw = flawOf(request);
    if (flaw) return refuse(response, flaw.status, flaw.says);
    const shown = shownTo(request);
    const named = hostOf(request);
    if (shown === null && asksForProof(request)) return proof(named, request, response);
    // A connection is for the hosts of its certificate alone (RFC 9110, 15.5.20).
    if (shown !== null && !certificates.covers(shown, named))
      return refuse(response, 421, 'This connection is for another host.');
    const { host, route, asked, target, place, visitor, forced } = find(request);
    if (!route) return refuse(response, 404, 'No environment has this address.');
    if (!asked) return refuse(response, 400, 'This is no address.');
    // What a trusted proxy has had over TLS is not led there again.
    if (shown === null && !isSecure(request) && certificates.trusted(named)) return toTls(named, asked, response);
    if (asksForForced(request)) return followForced(route, host, asked.search, request, response);
    const { environment, gate: guarded = null } = route;
    if (route.uses && asked.path === gatePath)
      return gate.answer({ host, environment, gate: guarded }, request, response);
    const may = judged ?? (guarded || saysPicture(request) ? gate.lets(host, request, !guarded) : 'in');
    if (typeof may !== 'string' && may) return void may.then((one) => again(request, response, one));
    if (!may && guarded) return gate.stop({ host, environment, gate: guarded }, request, response);
    // The service's own browser looks at it: that is no use of it, wakes nobody, and stands in no figure.
    const quiet = may === 'quiet';
    if (route.uses) {
      // A review comes and goes: nobody is to find it in a search.
      response.setHeader('x-robots-tag', 'noindex, nofollow');
      const events = asksForEvents(request);
      const { counts, wakes } = quiet ? noUse : meansOf(route, asked.path, request, events);
      if (asked.path === wakePath) return sleepers.answer({ host, route, wakes }, request, response);
      if (route.asleep && place?.kind === 'server' && !sleepers.stands(host, route))
        return sleepers.meet({ host, route, wakes }, request, response, () => again(request, response, null));
      if (counts) counter.use(host);
      const leave = inside.enter(host, { counts, close: () => endEvents(response) });
      response.once('close', leave);
    }
    if (route.closed && target && closedTo(request, response, { target, asked, place })) return;
    if (!place || !target) return refuse(response, 404, `Nothing of ${route.environment} stands at ${asked.path}.`);
    // What somebody has asked for by itself says nothing of either side.
    const note =
      quiet || forced
        ? freshNote()
        : counted(request, response, { host, route, target, part: place.part, asked, visitor });
    if (place.kind === 'server') {
      if (route.mirror && !quiet && !forced) mirrored(host, route.mirror, asked, request, response, note);
      return proxy.pass(place, seen(place, asked), request, response, note);
    }
    if (request.method !== 'GET' && request.method !== 'HEAD') {
      response.setHeader('allow', 'GET, HEAD');
      return refuse(response, 405, 'Files can only be read.');
    }
    // Only with a page: files may be kept by others on the way.
    if (visitor?.cookie && navigates(request)) response.setHeader('set-cookie', visitor.cookie);
    serveSite(sites, { route, target, site: place }, asked, request, response).catch((error: Error) => {
      log.warn({ error: String(error) }, 'a file could not be served');
      refuse(response, 500, 'This file could not be read.');
    });
  };
  const server = createServer(
    {
      keepAliveTimeout: 30_000,
      headersTimeout: 20_000,
      requestTimeout: 0,
      connectionsCheckingInterval: 5_000,
      maxHeaderSize: 32 * 1024,
      keepAlive: true,
      keepAliveInitialDelay: 30_000,
    },
    (request, response) => handle(request, response),
  );
  const handle = (request: IncomingMessage, response: ServerResponse): void => {
    noteCaller(request, callers);
    const leave = clients.enter(clientKey(callerOf(request)));
    if (!leave) {
      refuse(response, 429, 'This client has too many requests open.');
      return;
    }
    const stop = watchPace(request, response, bounds);
    response.once('close', () => {
      leave();
      stop();
    });
    again(request, response, null);
  };
  const again = (request: IncomingMessage, response: ServerResponse, judged: Let | null): void => {
    // A client may leave while the service is asked about it: what is counted from here on would wait for an end that has been.
    if (hasGone(response)) return;
    try {
      serve(request, response, judged);
    } catch (error) {
      // Whatever a stranger can write, it ends nobody else's requests.
      log.warn({ error: String(error) }, 'a request could not be passed on');
      refuse(response, 400, 'This request cannot be passed on.');
    }
  };
  server.maxConnections = 20_000;
  const upgrades = makeUpgrades({
    find,
    seen,
    enter: (from) => clients.enter(clientKey(from)),
    covers: certificates.covers,
    proxy,
    counter,
    inside,
    sleepers,
    gate,
    log,
  });
  // Nothing but WebSockets is tunnelled: a client that only offers another protocol goes on in this one (RFC 9110, 7.8).
  server.on('upgrade', (request, socket, head) => {
    noteCaller(request, callers);
    return asksForWebSocket(request) ? upgrades(request, socket, head) : askAgain(server, request, socket, head);
  });
  server.on('clientError', answerFlaw);
  callers.guard(server);
  await new Promise<void>((resolve, reject) =>
    server.once('error', reject).listen(options.port, options.host, resolve),
  );
  const tls = options.tlsPort
    ? await openTls({
        host: options.host,
        port: options.tlsPort,
        certificates,
        plain: server,
        handle,
        guard: callers.guard,
      })
    : null;
  log.info({ port: options.port, tls: options.tlsPort ?? null }, 'the edge listens');
  return {
    async close() {
      await table.close();
      await certificates.close();
      tls?.close();
      server.closeIdleConnections();
      await new Promise<void>((resolve) => {
        server.close(() => resolve());
        setTimeout(() => server.closeAllConnections(), 2_000).unref();
      });
      await proxy.close();
      judged.close();
      await mirror.close();
      await counter.close();
      await client.close();
    },
  };
}
