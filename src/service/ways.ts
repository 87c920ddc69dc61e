/**
 * A person's way to a database through the service: from a machine that can't reach the server, over a stream for each session. It
 * opens nothing by itself: the server still asks for the login.
 */
import { openEnding } from './signals.js';
import { connect } from 'node:net';
import type { FastifyRequest } from 'fastify';
import { CodedError } from '../core/errors/errors.js';
import { personLogin } from '../records/resources/logins.js';
import type { ResourceRow } from '../records/resources/resources.js';
import { joinSocket, type Stream } from '../wire/rooms/stream.js';
import { mayStill, type Service } from './server.js';

/** Ways that one service has open at a time, and one login has. */
const mostWays = 200;
const mostOfLogin = 16;
/** Milliseconds for the server to answer, and between two looks at whether the login is still good. */
const answerMs = 5_000;
const lookMs = 30_000;

export interface Ways {
  /** Throws where this caller has no such login, it is not good, or too many ways are open. */
  need(request: FastifyRequest, row: ResourceRow, login: string): Promise<void>;
  /** Passes on what both sides say until one of them ends, the login does, or its person may no longer. */
  pass(request: FastifyRequest, row: ResourceRow, login: string, stream: Stream): Promise<void>;
}

export function openWays(service: Service): Ways {
  const { context, hub, closing } = service;
  const open = new Map<string, number>();
  const isFull = (login: string): boolean =>
    [...open.values()].reduce((sum, one) => sum + one, 0) >= mostWays || (open.get(login) ?? 0) >= mostOfLogin;
  const good = async (request: FastifyRequest, row: ResourceRow, login: string): Promise<boolean> => {
    const own = await personLogin(context.records, row.id, login);
    return own?.state === 'ready' && own.person === request.caller?.name && +(own.expires_at ?? 0) > context.now();
  };

  async function watch(request: FastifyRequest, row: ResourceRow, login: string, over: AbortSignal): Promise<void> {
    while (!over.aborted) {
      await hub.wait((topic) => topic === 'resources' || topic === 'callers', lookMs, over);
      if (!over.aborted && !((await good(request, row, login)) && (await mayStill(service, request)))) return;
    }
  }

  return {
    async need(request, row, login) {
      if (!(await good(request, row, login)))
        throw new CodedError('not_found', { what: 'This login', hint: 'It has ended, or is none of yours.' });
      if (isFull(login)) throw new CodedError('busy', { what: 'ways to databases' });
    },
    async pass(request, row, login, stream) {
      // Others may have come since it was looked at.
      if (isFull(login)) return stream.close(1013);
      open.set(login, (open.get(login) ?? 0) + 1);
      const { signal: over, end } = openEnding(closing);
      const { address, port } = context.kinds.database(row).reached();
      const server = connect({ host: address, port, timeout: answerMs });
      server.once('connect', () => server.setTimeout(0));
      server.once('timeout', () => server.destroy());
      // Why is nothing that a stream could say: its end is what both sides hear.
      server.on('error', () => {});
      server.once('close', end);
      void stream.closed.then(end);
      try {
        joinSocket(stream, server);
        await Promise.race([
          watch(request, row, login, over),
          new Promise<void>((resolve) => over.addEventListener('abort', () => resolve(), { once: true })),
        ]);
      } finally {
        end();
        server.destroy();
        stream.close();
        const left = (open.get(login) ?? 1) - 1;
        if (left > 0) open.set(login, left);
        else open.delete(login);
      }
    },
  };
}
