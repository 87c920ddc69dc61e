/** Releases of several projects that go to an environment of one name together, or none of them. */
import { settleAuthors } from '../../../engine/promotion/approvals.js';
import { findEnvironment } from '../../../records/deployments/environments.js';
import type { FastifyRequest } from 'fastify';
import { CodedError } from '../../../core/errors/errors.js';
import { promoteTogether, takeTogetherBack, type TogetherAsk } from '../../../engine/together/ask.js';
import { findJoint } from '../../../records/deployments/joints.js';
import { findProject } from '../../../records/projects/projects.js';
import { Together, TogetherBody } from '../../../wire/environments/together.js';
import { type App, change, notFound, type Service } from '../../server.js';
import { togetherView } from '../../views/together.js';

export function togetherRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.post(
    '/api/joint-promotions',
    { schema: { body: TogetherBody, response: { 201: Together } } },
    async (request, reply) => {
      const members: TogetherAsk['members'] = [];
      for (const { project, release } of request.body.projects) {
        const found = await findProject(records, project);
        if (!found) throw notFound('project', project);
        members.push({ project: found, release: release ?? null });
        const environment = await findEnvironment(records, found.id, request.body.environment);
        if (environment) await settleAuthors(context, found, environment);
      }
      return change(service, request, reply, 'together.asked', 201, async (db, actor) =>
        togetherView(db, await promoteTogether(context, db, { environment: request.body.environment, members, actor })),
      );
    },
  );

  app.get('/api/joint-promotions/:number', { schema: { response: { 200: Together } } }, async (request) => {
    const joint = await findJoint(records, numberOf(request));
    if (!joint)
      throw new CodedError('not_found', {
        what: `The promotion j${numberOf(request)}`,
        hint: '`tsunagi promote` with --together says its number.',
      });
    return togetherView(records, joint);
  });

  app.post('/api/joint-promotions/:number/back', { schema: { response: { 200: Together } } }, (request, reply) =>
    change(service, request, reply, 'together.back', 200, async (db, actor) =>
      togetherView(db, await takeTogetherBack(db, numberOf(request), actor)),
    ),
  );
}

const numberOf = (request: FastifyRequest): number => (request.params as { number: number }).number;
