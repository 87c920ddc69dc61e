/** A server behind the service as if it were on this machine: a port of its loopback, each connection of which has a stream. */
import { createServer, type Server, type Socket } from 'node:net';
import { CodedError, registry } from '../core/errors/errors.js';
import { joinSocket } from '../wire/rooms/stream.js';
import { connect } from './dialled.js';

export interface OpenPort {
  port: number;
  close(): void;
  /** Rejects with what the service says, where it lets none in any more. */
  refused: Promise<never>;
}

/** Listens on the loopback, at `port` or at any; `path` is that of the stream. Throws `EADDRINUSE` where the port is taken. */
export async function openPort(path: string, port: number): Promise<OpenPort> {
  let refuse = (_: Error) => {};
  const refused = new Promise<never>((_, reject) => {
    refuse = reject;
  });
  refused.catch(() => {});
  const sockets = new Set<Socket>();
  const server: Server = createServer({ pauseOnConnect: true }, (socket) => {
    sockets.add(socket);
    socket.on('error', () => {});
    socket.once('close', () => sockets.delete(socket));
    serve(path, socket).catch((error: Error) => {
      socket.destroy();
      // What may be over soon costs this connection alone.
      if (!(error instanceof CodedError) || !registry[error.issue.code].retry) refuse(error);
    });
  });
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, '127.0.0.1', resolve));
  return {
    port: (server.address() as { port: number }).port,
    close() {
      server.close();
      for (const socket of sockets) socket.destroy();
    },
    refused,
  };
}

async function serve(path: string, socket: Socket): Promise<void> {
  const stream = await connect(path);
  // Whoever came has left meanwhile.
  if (socket.destroyed) return stream.close();
  socket.once('close', () => stream.close());
  void stream.closed.then(() => socket.end());
  joinSocket(stream, socket);
  socket.resume();
}
