/** The edge: the outside's requests, by host and path, to sites and instances. Goes on while the service is away. */
import { mkdirSync } from 'node:fs';
import { createServer, type IncomingMessage } from 'node:http';
import { join } from 'node:path';
import pino from 'pino';
import { routePath } from '../core/cutover/route.js';
import { makeProxy, refuse } from './proxy.js';
import { openSites } from './sites.js';
import { openTable } from './table.js';

export interface EdgeOptions {
  url: string;
  token: string;
  name: string;
  folder: string;
  host: string;
  port: number;
  logLevel?: string;
}

export interface RunningEdge {
  close(): Promise<void>;
}

export async function startEdge(options: EdgeOptions): Promise<RunningEdge> {
  const log = pino({ name: `edge ${options.name}`, level: options.logLevel ?? 'info' }, pino.destination({ fd: 2, sync: true }));
  mkdirSync(options.folder, { recursive: true, mode: 0o700 });
  const sites = openSites(join(options.folder, 'sites'));
  const table = openTable({ ...options, sites, log });
  const proxy = makeProxy();
  const find = (request: IncomingMessage) => {
    const route = table.route(hostOf(request));
    const path = pathOf(request.url ?? '/');
    return { route, path, place: route && path !== null ? routePath(route, path) : null };
  };
  const server = createServer({ keepAliveTimeout: 30_000, requestTimeout: 0 }, (request, response) => {
    const { route, path, place } = find(request);
    if (!route) return refuse(response, 404, 'No environment has this address.');
    if (path === null) return refuse(response, 400, 'This is no address.');
    if (!place) return refuse(response, 404, `Nothing of ${route.environment} stands at ${path}.`);
    if (place.kind === 'server') return proxy.pass(place, request, response);
    if (request.method !== 'GET' && request.method !== 'HEAD') return refuse(response, 405, 'Files can only be read.');
    sites.serve(place, path, request, response).catch((error: Error) => {
      log.warn({ error: String(error) }, 'a file could not be served');
      refuse(response, 500, 'This file could not be read.');
    });
  });
  server.on('upgrade', (request, socket, head) => {
    const { place } = find(request);
    if (place?.kind === 'server') proxy.upgrade(place, request, socket, head);
    else socket.end('HTTP/1.1 404 Not Found\r\nconnection: close\r\n\r\n');
  });
  server.on('clientError', (_error, socket) => socket.destroy());
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(options.port, options.host, resolve));
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
    },
  };
}

const hostOf = (request: IncomingMessage): string => (request.headers.host ?? '').replace(/:\d+$/, '').toLowerCase();

/** The path, decoded only as far as choosing a part needs; null when it is none. */
function pathOf(url: string): string | null {
  try {
    return new URL(url, 'http://edge').pathname;
  } catch {
    return null;
  }
}
