/** Pictures: what they came to, their bytes, and taking them anew. */
import { Type } from '@sinclair/typebox';
import type { FastifyReply } from 'fastify';
import { pictureFiles } from '../../../core/pictures/pages.js';
import { sameSecret } from '../../../keys/keys.js';
import { accessOf } from '../../../engine/environments/gate.js';
import { imageKey } from '../../../engine/pictures/pass.js';
import { pictureAnew } from '../../../engine/pictures/pictures.js';
import { environmentById } from '../../../records/deployments/environments.js';
import { type StoredRow, storedPicture } from '../../../records/deployments/pictures.js';
import { openEnvironment } from '../../../engine/deployments/acts.js';
import { PictureList } from '../../../wire/environments/pictures.js';
import { oneOf } from '../../../wire/parts.js';
import { type App, change, needEnvironment, needProject, notFound, type Service } from '../../server.js';
import { pictureList } from '../../views/pictures.js';

/** Whatever a page has drawn: a picture and nothing else, wherever it is opened. */
const alone = "default-src 'none'; sandbox";

const Image = Type.Object({
  project: Type.String(),
  name: Type.String(),
  id: Type.String({ format: 'uuid' }),
  page: Type.Integer({ minimum: 0, maximum: 9 }),
  file: oneOf(pictureFiles),
});

export function pictureRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records, blobs } = context;

  app.get(
    '/api/projects/:project/environments/:name/pictures',
    { schema: { response: { 200: PictureList } } },
    async (request) => {
      const { project, environment } = await needEnvironment(service, request);
      return pictureList(records, project.name, environment);
    },
  );

  app.post(
    '/api/projects/:project/environments/:name/pictures',
    { schema: { response: { 202: PictureList } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { name } = request.params as { name: string };
      return change(service, request, reply, 'picture.asked', 202, async (db, actor) => {
        const environment = await openEnvironment(db, project, name);
        await pictureAnew(db, project, environment, actor);
        return pictureList(db, project.name, environment);
      });
    },
  );

  const send = async (reply: FastifyReply, row: StoredRow, cache: string) => {
    const found = await blobs.open(row.digest);
    if (!found) throw notFound('picture', row.file);
    return reply
      .type('image/png')
      .header('content-length', found.size)
      .header('x-content-type-options', 'nosniff')
      .header('content-security-policy', alone)
      .header('cache-control', cache)
      .send(found.stream);
  };

  app.get(
    '/api/projects/:project/environments/:name/pictures/:id/:page/:file',
    { schema: { params: Image } },
    async (request, reply) => {
      const { id, page, file } = request.params;
      const { environment } = await needEnvironment(service, request);
      const row = await storedPicture(records, { picture: id, page, file });
      if (!row || row.environment_id !== environment.id) throw notFound('picture', `${page}/${file}`);
      // Its bytes are always the same under this address; whoever may see them may not be able to tomorrow.
      return send(reply, row, 'private, max-age=3600');
    },
  );

  // For documents outside, such as the comment at a code host: whoever has the address may look, as long as anybody may look at the review.
  app.get(
    '/picture/:file',
    {
      schema: {
        params: Type.Object({ file: Type.String({ maxLength: 100 }) }),
        querystring: Type.Object(
          { key: Type.Optional(Type.String({ maxLength: 100 })) },
          { additionalProperties: false },
        ),
      },
      config: { rateLimit: { max: 600, timeWindow: '1 minute' } },
    },
    async (request, reply) => {
      const [, id = '', page = '0', file = ''] =
        /^([0-9a-f-]{36})-(\d)-(after|before|marked|small)\.png$/.exec(request.params.file) ?? [];
      const none = () => notFound('picture', request.params.file.slice(0, 60));
      // One answer for what is not there and for a wrong key.
      if (!sameSecret(imageKey(context, id, Number(page), file), request.query.key ?? '') || id === '') throw none();
      const row = await storedPicture(records, { picture: id, page: Number(page), file });
      if (!row) throw none();
      if ((await accessOf(records, await environmentById(records, row.environment_id))) !== 'open') throw none();
      return send(reply.header('cross-origin-resource-policy', 'cross-origin'), row, 'public, max-age=300');
    },
  );
}
