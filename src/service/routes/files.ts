/** The files that an attempt sees: whole, as a list, or some of them. */
import type { FastifyRequest } from 'fastify';
import { layerOf, someOf } from '../../git/layer.js';
import { FileList, FilesWanted, IdParams } from '../../wire/rooms/work.js';
import type { App } from '../server.js';
import type { AttemptFiles } from '../work.js';

/** Bytes of a question for all files that there may be. */
const questionLimit = 40 * 1024 * 1024;

/** `filesFor` refuses whoever has not got the attempt. */
export function fileRoutes(app: App, filesFor: (request: FastifyRequest, id: string) => Promise<AttemptFiles>): void {
  app.get('/api/agent/attempts/:id/files', { schema: { params: IdParams } }, async (request, reply) => {
    const { repository, files } = await filesFor(request, request.params.id);
    return reply.type('application/x-tar').send(layerOf(repository, files));
  });

  app.get(
    '/api/agent/attempts/:id/files/list',
    { schema: { params: IdParams, response: { 200: FileList } } },
    async (request) => ({ files: (await filesFor(request, request.params.id)).files }),
  );

  app.post(
    '/api/agent/attempts/:id/files',
    { schema: { params: IdParams, body: FilesWanted }, bodyLimit: questionLimit },
    async (request, reply) => {
      const { repository, files } = await filesFor(request, request.params.id);
      return reply.type('application/x-tar').send(layerOf(repository, someOf(files, request.body.names)));
    },
  );
}
