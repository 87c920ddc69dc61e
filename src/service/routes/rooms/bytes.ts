/** Logs and stored layers of agents: to and from those that hold the work. */
import type { Readable } from 'node:stream';
import type { TypeBoxTypeProvider } from '@fastify/type-provider-typebox';
import { Type } from '@sinclair/typebox';
import type { FastifyReply } from 'fastify';
import type { BlobStore } from '../../../blobs/store.js';
import { CodedError } from '../../../core/errors/errors.js';
import { heldAttempts } from '../../../records/runs/attempts.js';
import { appendLog } from '../../../records/runs/logs.js';
import { Digest } from '../../../wire/parts.js';
import { IdParams, LogPlace } from '../../../wire/rooms/work.js';
import type { Given } from '../../given.js';
import { type App, needAgent, notFound, type Service } from '../../server.js';

export const DigestParams = Type.Object({ digest: Digest });
/** Bytes of one batch of log, and of one stored layer. */
const logLimit = 1024 * 1024;
const layerLimit = 8 * 1024 ** 3;

export function byteRoutes(app: App, service: Service, given: Given): void {
  const { records, blobs } = service.context;

  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser(
      'application/octet-stream',
      { parseAs: 'buffer', bodyLimit: logLimit },
      (_request, body, done) => done(null, body),
    );
    for (const table of ['attempts', 'instances'] as const) {
      scope.post(
        `/api/agent/${table}/:id/log`,
        { schema: { params: IdParams, querystring: LogPlace }, bodyLimit: logLimit },
        async (request) => {
          const agent = await needAgent(service, request);
          const { fence, position, command, skippedLines, skippedBytes } = request.query;
          const skipped = skippedBytes ? { lines: skippedLines ?? 0, bytes: skippedBytes } : null;
          const { id } = request.params;
          const bytes = request.body instanceof Buffer ? request.body : Buffer.alloc(0);
          return {
            position: await records.transition('log.kept', (db) =>
              appendLog(db, { table, id, agent: agent.id, fence }, position, command, bytes, skipped),
            ),
          };
        },
      );
    }
  });

  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('*', (_request, payload, done) => done(null, payload));
    scope.put(
      '/api/agent/blobs/:digest',
      { schema: { params: DigestParams }, bodyLimit: layerLimit },
      async (request) => {
        const agent = await needAgent(service, request);
        const { digest } = request.params;
        if ((await heldAttempts(records, agent.id)).length === 0) throw new CodedError('fence_old');
        return blobs.putLayer(request.body as Readable, digest);
      },
    );
  });

  app.get('/api/agent/blobs/:digest', { schema: { params: DigestParams } }, async (request, reply) => {
    const agent = await needAgent(service, request);
    const { digest } = request.params;
    if (!(await given.mayHave(agent.id, digest))) throw notFound('digest', digest);
    return sendBlob(blobs, digest, reply);
  });
}

/** Streams what is stored under a digest. Throws `not_found`. */
export async function sendBlob(blobs: BlobStore, digest: string, reply: FastifyReply): Promise<FastifyReply> {
  const found = await blobs.open(digest);
  if (!found) throw notFound('digest', digest);
  return reply.type('application/octet-stream').header('content-length', found.size).send(found.stream);
}
