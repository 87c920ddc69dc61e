/** Traffic that moves in steps: how it goes, and what people say to that. */
import type { FastifyRequest } from 'fastify';
import { orderStep } from '../../../engine/deployments/orders.js';
import { Cutover, CutoverOrder, FirstLook, FirstLookQuery } from '../../../wire/environments/cutover.js';
import { type App, change, needEnvironment, needProject, type Service } from '../../server.js';
import { cutoverView, firstLookView } from '../../views/cutover.js';
import { findEnvironment } from '../../../records/deployments/environments.js';

export function cutoverRoutes(app: App, service: Service): void {
  const { records } = service.context;

  app.get(
    '/api/projects/:project/environments/:name/cutover',
    { schema: { response: { 200: Cutover } } },
    async (request) => {
      const { project, environment } = await needEnvironment(service, request);
      return cutoverView(service, records, project, environment);
    },
  );

  /** What has a share already, or none yet: whoever is signed in may look at it first. */
  app.get(
    '/api/projects/:project/environments/:name/cutover/first-look',
    { schema: { querystring: FirstLookQuery, response: { 200: FirstLook } } },
    async (request) => {
      const { project, environment } = await needEnvironment(service, request);
      return firstLookView(service, records, project, environment, request.query.release ?? null);
    },
  );

  app.post(
    '/api/projects/:project/environments/:name/cutover',
    { schema: { body: CutoverOrder, response: { 200: Cutover } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { name } = (request as FastifyRequest<{ Params: { name: string } }>).params;
      const { order, stage = null } = request.body;
      return change(service, request, reply, 'cutover.ordered', 200, async (db, actor) => {
        await orderStep(db, project, name, { order, stage, actor });
        const environment = await findEnvironment(db, project.id, name);
        if (!environment) throw new Error(`no environment ${name}`);
        return cutoverView(service, db, project, environment);
      });
    },
  );
}
