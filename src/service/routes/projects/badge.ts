/** How a branch stands, as a picture for documents that anybody may read: its address carries a key, and nothing else is told. */
import { Type } from '@sinclair/typebox';
import { badgeSvg, type BadgeState } from '../../../core/badge.js';
import { sameSecret } from '../../../keys/keys.js';
import { newestRun } from '../../../records/views/overview.js';
import { findProject } from '../../../records/projects/projects.js';
import { badgeKey } from '../../badges.js';
import { type App, notFound, type Service } from '../../server.js';

const Query = Type.Object(
  { key: Type.Optional(Type.String({ maxLength: 100 })), branch: Type.Optional(Type.String({ maxLength: 250 })) },
  { additionalProperties: false },
);

export function badgeRoutes(app: App, service: Service): void {
  const { records } = service.context;
  app.get(
    '/badge/:file',
    {
      schema: { params: Type.Object({ file: Type.String({ maxLength: 100 }) }), querystring: Query },
      config: { rateLimit: { max: 600, timeWindow: '1 minute' } },
    },
    async (request, reply) => {
      const { file } = request.params;
      const { key = '', branch } = request.query;
      const project = file.endsWith('.svg') ? await findProject(records, file.slice(0, -4)) : null;
      const right = project ? badgeKey(service, project) : '';
      // One answer for a project that is not there and for a wrong key.
      if (!sameSecret(right, key) || !project) throw notFound('badge', file);
      const run = await newestRun(records, project.id, branch ?? project.main_branch);
      const state: BadgeState = !run
        ? 'none'
        : run.state === 'passed' || run.state === 'failed'
          ? run.state
          : run.ended_at
            ? 'none'
            : 'running';
      return reply
        .type('image/svg+xml; charset=utf-8')
        .header('cache-control', 'no-cache')
        .send(badgeSvg(`${project.name}${branch && branch !== project.main_branch ? ` ${branch}` : ''}`, state));
    },
  );
}
