import { Readable } from 'node:stream';
import type { TypeBoxTypeProvider } from '@fastify/type-provider-typebox';
import { Type } from '@sinclair/typebox';
import { Ajv } from 'ajv';
import { CodedError } from '../../../core/errors/errors.js';
import { needRelease } from '../../../engine/deployments/acts.js';
import { keyOf } from '../../../core/release/keyset.js';
import { importRelease } from '../../../engine/releases/import.js';
import { exportRelease } from '../../../engine/releases/export.js';
import type { Caller } from '../../../records/callers/people.js';
import { listReleases } from '../../../records/deployments/releases.js';
import { Page, PageQuery } from '../../../wire/parts.js';
import { Stated } from '../../../wire/plans.js';
import { ImportQuery, Release, ReleaseDetail } from '../../../wire/releases.js';
import { type App, needProject, type Service } from '../../server.js';
import { releaseDetail, releaseView } from '../../views/releases.js';
import { NumberParams } from '../runs/runs.js';

const ajv = new Ajv({ allowUnionTypes: true, strictTypes: false });

export function releaseRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.get(
    '/api/projects/:project/releases',
    {
      schema: {
        querystring: Type.Object(PageQuery, { additionalProperties: false }),
        response: { 200: Page(Release) },
      },
    },
    async (request) => {
      const project = await needProject(service, request);
      const { cursor, limit = 30 } = request.query;
      if (cursor && !/^\d{1,9}$/.test(cursor)) throw new CodedError('cursor_wrong');
      const rows = await listReleases(records, project.id, cursor ? Number(cursor) : null, limit + 1);
      return {
        items: await Promise.all(rows.slice(0, limit).map((row) => releaseView(records, project, row))),
        next: rows.length > limit ? String(rows[limit - 1]?.number) : null,
      };
    },
  );

  app.get(
    '/api/projects/:project/releases/:number',
    { schema: { params: NumberParams, response: { 200: ReleaseDetail } } },
    async (request) => {
      const project = await needProject(service, request);
      return releaseDetail(service, records, project, await needRelease(records, project, request.params.number));
    },
  );

  /** The release as a tar of an OCI image layout: its images, and signed statements about them. */
  app.get(
    '/api/projects/:project/releases/:number/image',
    { schema: { params: NumberParams } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const release = await needRelease(records, project, request.params.number);
      return reply
        .type('application/x-tar')
        .header('content-disposition', `attachment; filename="${project.name}-r${release.number}.tar"`)
        .send(await exportRelease(context, project, release));
    },
  );

  /** One that was made elsewhere, as the body: a tar, checked whole with these keys before anything of it is kept. */
  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('application/x-tar', (_request, payload, done) => done(null, payload));
    scope.post(
      '/api/projects/:project/releases/import',
      { schema: { querystring: ImportQuery, response: { 200: Release, 201: Release } } },
      async (request, reply) => {
        const project = await needProject(service, request);
        if (!(request.body instanceof Readable)) throw new CodedError('export_broken', { why: 'it is empty' });
        const { release, fresh } = await importRelease(context, project, {
          stream: request.body,
          keys: request.query.key.map((x) => keyOf(x)),
          actor: (request.caller as Caller).name,
          known: (stated) => ajv.validate(Stated, stated),
        });
        return reply.status(fresh ? 201 : 200).send(await releaseView(records, project, release));
      },
    );
  });
}
