import { Type } from '@sinclair/typebox';
import { pack } from 'tar-stream';
import { CodedError } from '../../../core/errors/errors.js';
import { mediaTypes } from '../../../core/release/image.js';
import { canonical } from '../../../core/canonical.js';
import type { BlobStore } from '../../../blobs/store.js';
import { needRelease } from '../../../engine/deployments/acts.js';
import { type ReleaseRow, listReleases } from '../../../records/deployments/releases.js';
import { Page, PageQuery } from '../../../wire/parts.js';
import { Release, ReleaseDetail } from '../../../wire/releases.js';
import { type App, needProject, type Service } from '../../server.js';
import { releaseDetail, releaseView } from '../../views/releases.js';
import { NumberParams } from '../runs/runs.js';

export function releaseRoutes(app: App, service: Service): void {
  const { records, blobs } = service.context;

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

  /** The release's bytes as an OCI image layout in a tar. */
  app.get(
    '/api/projects/:project/releases/:number/image',
    { schema: { params: NumberParams } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const release = await needRelease(records, project, request.params.number);
      return reply
        .type('application/x-tar')
        .header('content-disposition', `attachment; filename="${project.name}-r${release.number}.tar"`)
        .send(await layoutTar(blobs, release));
    },
  );
}

async function layoutTar(blobs: BlobStore, release: ReleaseRow) {
  const tar = pack();
  const indexSize = await blobs.size(release.digest);
  const manifests = await Promise.all(
    release.parts.map(async (part) => JSON.parse(await text(blobs, part.digest)) as { config: { digest: string } }),
  );
  const digests = new Set([
    release.digest,
    ...release.parts.flatMap((part, at) => [
      part.digest,
      manifests[at]?.config.digest as string,
      ...part.layers.map((layer) => layer.digest),
    ]),
  ]);
  const fill = async () => {
    tar.entry({ name: 'oci-layout', mtime: new Date(0) }, '{"imageLayoutVersion":"1.0.0"}');
    tar.entry(
      { name: 'index.json', mtime: new Date(0) },
      canonical({
        schemaVersion: 2,
        mediaType: mediaTypes.index,
        manifests: [
          {
            mediaType: mediaTypes.index,
            digest: release.digest,
            size: indexSize,
            annotations: { 'org.opencontainers.image.ref.name': `r${release.number}` },
          },
        ],
      }),
    );
    for (const digest of digests) {
      const found = await blobs.open(digest);
      if (!found) throw new Error(`the bytes ${digest} are missing`);
      const entry = tar.entry({ name: `blobs/sha256/${digest.slice(7)}`, size: found.size, mtime: new Date(0) });
      await new Promise<void>((resolve, reject) =>
        found.stream.on('error', reject).pipe(entry).on('finish', resolve).on('error', reject),
      );
    }
    tar.finalize();
  };
  fill().catch((error: Error) => tar.destroy(error));
  return tar;
}

async function text(blobs: BlobStore, digest: string): Promise<string> {
  const found = await blobs.open(digest);
  if (!found) throw new Error(`the bytes ${digest} are missing`);
  const parts: Buffer[] = [];
  for await (const chunk of found.stream) parts.push(chunk as Buffer);
  return Buffer.concat(parts).toString('utf8');
}
