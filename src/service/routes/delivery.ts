/** How delivery goes: deployments, the way of commits, failures, tasks, reuse. */
import type { FastifyRequest } from 'fastify';
import type { Caller } from '../../records/callers/people.js';
import { findProject, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { Delivery, DeliveryQuery, DeliveryTableQuery } from '../../wire/delivery.js';
import { type App, notFound, type Service } from '../server.js';
import { csvOf, deliveryTable, deliveryView } from '../views/delivery.js';

export function deliveryRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  /** Whoever is bound to a project sees that alone. */
  const projectOf = async (request: FastifyRequest, name: string | undefined): Promise<ProjectRow | null> => {
    const bound = (request.caller as Caller).project;
    if (name === undefined) return bound === null ? null : projectById(records, bound);
    const found = await findProject(records, name);
    if (!found || (bound !== null && found.id !== bound)) throw notFound('project', name);
    return found;
  };

  app.get('/api/delivery', { schema: { querystring: DeliveryQuery, response: { 200: Delivery } } }, async (request) =>
    deliveryView(records, context.now(), {
      project: await projectOf(request, request.query.project),
      weeks: request.query.weeks,
    }),
  );

  app.get('/api/delivery/csv', { schema: { querystring: DeliveryTableQuery } }, async (request, reply) => {
    const { project, weeks, of = 'delivery' } = request.query;
    const one = await deliveryView(records, context.now(), { project: await projectOf(request, project), weeks });
    return reply
      .type('text/csv; charset=utf-8; header=present')
      .header('content-disposition', `attachment; filename="${of}.csv"`)
      .send(csvOf(deliveryTable(one, of)));
  });
}
