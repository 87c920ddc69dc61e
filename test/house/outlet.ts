/** An edge with a stand-in for the service: it is told of routes, and fetches layers that the test has made. */
import { chmodSync, mkdtempSync, rmSync } from 'node:fs';
import { createServer, type IncomingHttpHeaders, type IncomingMessage, request, type ServerResponse } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { buffer } from 'node:stream/consumers';
import { pack } from 'tar-stream';
import type { Route } from '../../src/core/cutover/route.js';
import { startEdge } from '../../src/edge/edge.js';
import type { Place } from './routes.js';
import { until } from './world.js';

export interface Answer {
  status: number;
  headers: IncomingHttpHeaders;
  bytes: Buffer;
  text: string;
}

export interface Outlet {
  host: string;
  /** Makes a layer of these files; gives its digest. */
  layer(files: Record<string, string>): Promise<string>;
  /** Forgets a layer: it is asked for in vain. */
  lose(digest: string): void;
  give(route: Route): Promise<void>;
  ask(path: string, headers?: Record<string, string>, method?: string): Promise<Answer>;
  /** A program that answers with its name and what it was asked. */
  program(name: string): Promise<Place>;
  restart(): Promise<void>;
  close(): Promise<void>;
}

export async function openOutlet(port: number): Promise<Outlet> {
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-outlet-'));
  chmodSync(folder, 0o711);
  const host = 'sailings-staging.localhost';
  const layers = new Map<string, Buffer>();
  let told: { host: string; version: number; body: Route }[] = [];
  let version = 0;
  let have = -1;
  const listen = async (handler: (incoming: IncomingMessage, response: ServerResponse) => void) => {
    const server = createServer(handler);
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    closing.push(() => {
      server.closeAllConnections();
      server.close();
    });
    return (server.address() as { port: number }).port;
  };
  const closing: (() => void)[] = [];
  const service = await listen(async (incoming, response) => {
    const digest = incoming.url?.startsWith('/api/edge/blobs/') ? incoming.url.slice('/api/edge/blobs/'.length) : null;
    if (digest !== null) {
      const bytes = layers.get(digest);
      response.statusCode = bytes ? 200 : 404;
      return void response.end(bytes ?? '{}');
    }
    const asked = JSON.parse((await buffer(incoming)).toString()) as { have: number; waitMs: number };
    have = asked.have;
    const newer = () => told.filter((one) => one.version > asked.have);
    for (let waited = 0; waited < asked.waitMs && newer().length === 0; waited += 20)
      await new Promise((resolve) => setTimeout(resolve, 20));
    response.setHeader('content-type', 'application/json');
    response.end(JSON.stringify({ routes: newer() }));
  });
  const start = () =>
    startEdge({
      url: `http://127.0.0.1:${service}`,
      token: 'tse_x',
      name: 'outlet',
      folder: join(folder, 'edge'),
      host: '127.0.0.1',
      port,
      logLevel: 'silent',
    });
  let edge = await start();
  return {
    host,
    async layer(files) {
      const tar = pack();
      for (const [name, text] of Object.entries(files)) tar.entry({ name }, text);
      tar.finalize();
      const digest = `sha256:${String(layers.size + 1).padStart(64, '0')}`;
      layers.set(digest, await buffer(tar));
      return digest;
    },
    lose: (digest) => void layers.delete(digest),
    async give(body) {
      version++;
      told = [{ host, version, body }];
      await until('the edge has the route', async () => have >= version);
    },
    ask: (path, headers = {}, method = 'GET') =>
      new Promise((resolve, reject) => {
        request({ host: '127.0.0.1', port, path, method, agent: false, headers: { host, ...headers } }, (answer) => {
          buffer(answer).then(
            (bytes) =>
              resolve({ status: answer.statusCode ?? 0, headers: answer.headers, bytes, text: bytes.toString('utf8') }),
            reject,
          );
        })
          .on('error', reject)
          .end();
      }),
    async program(name) {
      const at = await listen((incoming, response) =>
        response.end(JSON.stringify({ name, url: incoming.url, cookie: incoming.headers.cookie ?? null })),
      );
      return { id: name, address: '127.0.0.1', port: at };
    },
    async restart() {
      await edge.close();
      edge = await start();
    },
    async close() {
      await edge.close();
      for (const one of closing) one();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
