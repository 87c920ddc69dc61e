/** Two releases of a project beside each other. */
import { compare } from '../../../engine/compare/compare.js';
import { Comparison, CompareQuery } from '../../../wire/compare.js';
import { type App, needProject, type Service } from '../../server.js';
import { comparisonView } from '../../views/compare.js';

export function compareRoutes(app: App, service: Service): void {
  const { context } = service;
  app.get(
    '/api/projects/:project/compare',
    { schema: { querystring: CompareQuery, response: { 200: Comparison } } },
    async (request) => {
      const project = await needProject(service, request);
      return comparisonView(context.records, project, await compare(context, context.records, project, request.query));
    },
  );
}
