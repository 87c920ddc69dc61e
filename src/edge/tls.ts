/**
 * TLS 1.2 and newer, with the certificate of the host that a client asks for. HTTP/2 where the client speaks it (RFC 9113, by ALPN);
 * everything else goes to the server of plain requests, with all of its bounds.
 */
import {
  createServer as createHttp2,
  type Http2ServerRequest,
  type Http2ServerResponse,
  type ServerHttp2Session,
} from 'node:http2';
import type { IncomingMessage, Server, ServerResponse } from 'node:http';
import { createServer, type TLSSocket } from 'node:tls';
import type { Certificates } from './certificates.js';

export interface TlsOptions {
  host: string;
  port: number;
  certificates: Certificates;
  /** Serves what comes in HTTP/1.1. */
  plain: Server;
  handle(request: IncomingMessage, response: ServerResponse): void;
  /** Reads what trusted proxies say of a connection before its handshake. */
  guard(server: Server): void;
}

/** Milliseconds for a handshake, and for which a connection without a request stays open. */
const handshakeMs = 10_000;
const idleMs = 60_000;
/** Requests that a client may have open on one connection, and MB that one may take in this process. */
const streams = 128;
const sessionMB = 16;

/** The name of a host that a request over TLS was sent to; null where it came plainly. */
export const shownTo = (request: IncomingMessage): string | null => {
  const socket = request.socket as Partial<TLSSocket>;
  return socket.encrypted ? String(socket.servername || '').toLowerCase() : null;
};

export async function openTls({
  host,
  port,
  certificates,
  plain,
  handle,
  guard,
}: TlsOptions): Promise<{ close(): void }> {
  const sessions = new Set<ServerHttp2Session>();
  const http2 = createHttp2(
    { maxSessionMemory: sessionMB, settings: { maxConcurrentStreams: streams, maxHeaderListSize: 32 * 1024 } },
    (request: Http2ServerRequest, response: Http2ServerResponse) =>
      // The interface of HTTP/1.1; what differs is named where it is used.
      handle(request as unknown as IncomingMessage, response as unknown as ServerResponse),
  );
  http2.on('session', (session) => {
    sessions.add(session);
    let open = 0;
    session.on('stream', (stream) => {
      open++;
      stream.once('close', () => open--);
    });
    session.setTimeout(idleMs, () => {
      if (open === 0) session.close();
    });
    session.on('error', () => session.destroy());
    session.once('close', () => sessions.delete(session));
  });
  http2.on('sessionError', () => {});
  const server = createServer({
    ALPNProtocols: ['h2', 'http/1.1'],
    minVersion: 'TLSv1.2',
    handshakeTimeout: handshakeMs,
    // One without a certificate here ends its handshake: there is nothing to show it.
    SNICallback: (name, done) => done(null, certificates.context(name) ?? undefined),
  });
  server.on('secureConnection', (socket) => {
    if (!socket.servername) return void socket.destroy();
    (socket.alpnProtocol === 'h2' ? http2 : plain).emit('connection', socket);
  });
  server.on('tlsClientError', (_error, socket) => socket.destroy());
  guard(server as unknown as Server);
  server.maxConnections = 20_000;
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, host, resolve));
  return {
    close() {
      server.close();
      for (const session of sessions) session.close();
      setTimeout(() => {
        for (const session of sessions) session.destroy();
      }, 2_000).unref();
    },
  };
}
