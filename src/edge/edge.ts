/** The edge: the outside's requests, by host and path, to sites and instances. Goes on while the service is away. */
import { mkdirSync } from 'node:fs';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { join } from 'node:path';
import pino from 'pino';
import { randomInt } from 'node:crypto';
import { allTraffic, below, pathOf, type ServerPath, type Target, targetOf } from '../core/cutover/route.js';
import { openTally } from '../core/tally.js';
import { defaultBounds, type EdgeBounds, watchPace } from './bounds.js';
import { makeClient } from '../wire/client.js';
import { freshNote, type Note, openCounter } from './count.js';
import { askedFor, hostOf, refuse } from './headers.js';
import { makeProxy } from './proxy.js';
import { serveSite } from './site.js';
import { openSites } from './sites.js';
import { openTable } from './table.js';
import { refuseUpgrade, upgrade } from './upgrade.js';

export interface EdgeOptions {
  url: string;
  token: string;
  name: string;
  folder: string;
  host: string;
  port: number;
  /** What clients may hold open; what is left out stays as it is by default. */
  bounds?: Partial<EdgeBounds>;
  logLevel?: string;
}

export interface RunningEdge {
  close(): Promise<void>;
}

export async function startEdge(options: EdgeOptions): Promise<RunningEdge> {
  const log = pino(
    { name: `edge ${options.name}`, level: options.logLevel ?? 'info' },
    pino.destination({ fd: 2, sync: true }),
  );
  mkdirSync(options.folder, { recursive: true, mode: 0o700 });
  const bounds = { ...defaultBounds, ...options.bounds };
  const sites = openSites(join(options.folder, 'sites'));
  const table = openTable({ ...options, sites, log });
  const proxy = makeProxy(bounds);
  const client = makeClient(options.url, options.token);
  const counter = openCounter(client, options.name, log);
  const clients = openTally(bounds.perClient);
  const find = (request: IncomingMessage) => {
    const route = table.route(hostOf(request));
    const asked = askedFor(request.url ?? '/');
    const target = route && targetOf(route, randomInt(allTraffic));
    return { route, asked, target, place: target && asked ? pathOf(target, asked.path) : null };
  };
  const seen = (place: ServerPath, { path, search }: { path: string; search: string }) =>
    (place.strip ? below(place.at, path) : path) + search;
  /** Counts an answer when it is over, however that came. What a client broke off says nothing of the program's time. */
  const counted = (request: IncomingMessage, response: ServerResponse, target: Target, part: string): Note => {
    const [note, began] = [freshNote(), performance.now()];
    response.once('close', () => {
      const whole = response.writableFinished;
      const answered = note.answeredAt ?? (whole ? performance.now() : null);
      counter.count({
        host: hostOf(request),
        deployment: target.deployment,
        part,
        instance: note.instance,
        error: note.unanswered || (response.headersSent && response.statusCode >= 500),
        bytes: request.socket.bytesWritten - written,
        ms: answered === null || note.unanswered ? null : answered - began,
      });
    });
    const written = request.socket.bytesWritten;
    return note;
  };
  const serve = (request: IncomingMessage, response: ServerResponse) => {
    const { route, asked, target, place } = find(request);
    if (!route) return refuse(response, 404, 'No environment has this address.');
    if (!asked) return refuse(response, 400, 'This is no address.');
    if (!place || !target) return refuse(response, 404, `Nothing of ${route.environment} stands at ${asked.path}.`);
    const note = counted(request, response, target, place.part);
    if (place.kind === 'server') return proxy.pass(place, seen(place, asked), request, response, note);
    if (request.method !== 'GET' && request.method !== 'HEAD') return refuse(response, 405, 'Files can only be read.');
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
    },
    (request, response) => {
      const leave = clients.enter(request.socket.remoteAddress ?? '');
      if (!leave) return refuse(response, 429, 'This client has too many requests open.');
      const stop = watchPace(request, response, bounds);
      response.once('close', () => {
        leave();
        stop();
      });
      try {
        serve(request, response);
      } catch (error) {
        // Whatever a stranger can write, it ends nobody else's requests.
        log.warn({ error: String(error) }, 'a request could not be passed on');
        refuse(response, 400, 'This request cannot be passed on.');
      }
    },
  );
  server.maxConnections = 20_000;
  server.on('upgrade', (request, socket, head) => {
    const { asked, place } = find(request);
    const leave = clients.enter(request.socket.remoteAddress ?? '');
    if (!leave) return refuseUpgrade(socket, 429, 'Too Many Requests', () => {});
    if (place?.kind !== 'server' || !asked) return refuseUpgrade(socket, 404, 'Not Found', leave);
    try {
      upgrade(proxy, place, seen(place, asked), request, socket, head, leave);
    } catch (error) {
      log.warn({ error: String(error) }, 'an upgrade could not be passed on');
      refuseUpgrade(socket, 400, 'Bad Request', leave);
    }
  });
  server.on('clientError', (_error, socket) => socket.destroy());
  await new Promise<void>((resolve, reject) =>
    server.once('error', reject).listen(options.port, options.host, resolve),
  );
  log.info({ port: options.port }, 'the edge listens');
  return {
    async close() {
      await table.close();
      server.closeIdleConnections();
      await new Promise<void>((resolve) => {
        server.close(() => resolve());
        setTimeout(() => server.closeAllConnections(), 2_000).unref();
      });
      await proxy.close();
      await counter.close();
      await client.close();
    },
  };
}
