/** Passes a request on to an instance. A request that no instance has begun to answer, and that may be repeated, goes to the next one. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { connect } from 'node:net';
import type { Duplex } from 'node:stream';
import { Agent, type Dispatcher } from 'undici';
import type { RoutePath } from '../core/cutover/route.js';

export type ServerPath = Extract<RoutePath, { kind: 'server' }>;

export interface Proxy {
  pass(path: ServerPath, request: IncomingMessage, response: ServerResponse): void;
  upgrade(path: ServerPath, request: IncomingMessage, socket: Duplex, head: Buffer): void;
  close(): Promise<void>;
}

const hopByHop = new Set([
  'connection',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
  'expect',
]);
const repeatable = new Set(['GET', 'HEAD', 'OPTIONS', 'PUT', 'DELETE']);

export function makeProxy(): Proxy {
  const dispatcher = new Agent({
    connections: 256,
    pipelining: 1,
    keepAliveTimeout: 4_000,
    connect: { timeout: 2_000 },
    headersTimeout: 300_000,
    bodyTimeout: 0,
  });
  let turn = 0;
  const order = (path: ServerPath) => path.instances.map((_, at) => path.instances[(turn + at) % path.instances.length] as ServerPath['instances'][number]);

  return {
    pass(path, request, response) {
      turn = (turn + 1) % 1_000_000;
      const instances = order(path);
      const hasBody =
        request.headers['content-length'] !== undefined ? request.headers['content-length'] !== '0' : request.headers['transfer-encoding'] !== undefined;
      const headers = forwarded(request);
      let at = 0;
      const next = () => {
        const instance = instances[at++];
        if (!instance) return refuse(response, 503, 'Nothing is ready to answer here.');
        dispatch(instance);
      };
      const dispatch = (instance: ServerPath['instances'][number]) => {
        let begun = false;
        let abort: (() => void) | null = null;
        const onClose = () => abort?.();
        const handler: Dispatcher.DispatchHandler = {
          onRequestStart(controller) {
            abort = () => controller.abort(new Error('the reader went away'));
            if (response.destroyed) abort();
            else response.once('close', onClose);
          },
          onResponseStart(controller, status, incoming) {
            if (status < 200) return;
            begun = true;
            const answer: Record<string, string | string[]> = {};
            for (const [name, value] of Object.entries(incoming)) if (value !== undefined && !hopByHop.has(name)) answer[name] = value;
            response.writeHead(status, answer);
            response.on('drain', () => controller.resume());
          },
          onResponseData(controller, chunk) {
            if (!response.write(chunk)) controller.pause();
          },
          onResponseEnd() {
            response.off('close', onClose);
            response.end();
          },
          onResponseError(_controller, error) {
            response.off('close', onClose);
            if (response.destroyed) return;
            if (begun || response.headersSent) return void response.destroy(error);
            const refused = (error as NodeJS.ErrnoException).code === 'ECONNREFUSED' || (error as { code?: string }).code === 'UND_ERR_CONNECT_TIMEOUT';
            // Refused: not a byte has reached a program. Cut off without a body: it may be repeated where the method allows it.
            if (at < instances.length && !hasBody && (refused || repeatable.has(request.method ?? ''))) return next();
            if (!hasBody && !refused && repeatable.has(request.method ?? '') && at === instances.length) {
              at = instances.length + 1;
              return dispatch(instance);
            }
            refuse(response, 502, 'The program that should answer here ended the connection.');
          },
        };
        const method = (request.method ?? 'GET') as Dispatcher.HttpMethod;
        dispatcher.dispatch(
          {
            origin: `http://${instance.address}:${instance.port}`,
            path: request.url ?? '/',
            method,
            headers,
            body: hasBody ? request : null,
            ...(hasBody ? {} : { reset: false }),
          },
          handler,
        );
      };
      next();
    },
    upgrade(path, request, socket, head) {
      turn = (turn + 1) % 1_000_000;
      const instance = order(path)[0];
      if (!instance) return void socket.end('HTTP/1.1 503 Service Unavailable\r\nconnection: close\r\n\r\n');
      const upstream = connect(instance.port, instance.address, () => {
        const lines = [`${request.method} ${request.url} HTTP/1.1`];
        for (let index = 0; index < request.rawHeaders.length; index += 2) lines.push(`${request.rawHeaders[index]}: ${request.rawHeaders[index + 1]}`);
        upstream.write(`${lines.join('\r\n')}\r\n\r\n`);
        upstream.write(head);
        upstream.pipe(socket).pipe(upstream);
      });
      upstream.on('error', () => socket.destroy());
      socket.on('error', () => upstream.destroy());
      socket.on('close', () => upstream.destroy());
    },
    close: () => dispatcher.destroy(),
  };
}

function forwarded(request: IncomingMessage): string[] {
  const headers: string[] = [];
  const named = new Set((request.headers.connection ?? '').split(',').map((one) => one.trim().toLowerCase()));
  for (let at = 0; at < request.rawHeaders.length; at += 2) {
    const name = request.rawHeaders[at] as string;
    const lower = name.toLowerCase();
    if (hopByHop.has(lower) || named.has(lower) || lower.startsWith('x-forwarded-') || lower === 'forwarded') continue;
    headers.push(name, request.rawHeaders[at + 1] as string);
  }
  headers.push('x-forwarded-for', request.socket.remoteAddress ?? '', 'x-forwarded-proto', 'http', 'x-forwarded-host', request.headers.host ?? '');
  return headers;
}

/** A plain answer of the edge itself. */
export function refuse(response: ServerResponse, status: number, text: string): void {
  if (response.headersSent) return void response.destroy();
  response.writeHead(status, { 'content-type': 'text/plain; charset=utf-8', 'cache-control': 'no-store', ...(status === 503 ? { 'retry-after': '1' } : {}) });
  response.end(`${text}\n`);
}
