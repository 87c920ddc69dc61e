/** Acts on reviews: open one for a branch, wake, sleep, keep, begin anew, close. */
import type { FastifyReply, FastifyRequest } from 'fastify';
import { openBranchReview } from '../../../engine/environments/reviews.js';
import { close, keep, wish } from '../../../engine/environments/wishes.js';
import type { Db } from '../../../records/database.js';
import type { EnvironmentRow } from '../../../records/deployments/environments.js';
import type { ProjectRow } from '../../../records/projects/projects.js';
import { Environment, KeepReview, OpenReview } from '../../../wire/environments/environments.js';
import { type App, change, needProject, type Service } from '../../server.js';
import type { Caller } from '../../../records/callers/people.js';
import { Review } from '../../../wire/environments/reviews.js';
import { Page } from '../../../wire/parts.js';
import { environmentView } from '../../views/board.js';
import { reviewViews } from '../../views/reviews.js';

export function reviewRoutes(app: App, service: Service): void {
  const { context } = service;
  const nameOf = (request: FastifyRequest) => (request.params as { name: string }).name;
  const answered = async (
    request: FastifyRequest,
    reply: FastifyReply,
    { name, status = 200 }: { name: string; status?: number },
    act: (db: Db, project: ProjectRow, actor: string) => Promise<EnvironmentRow>,
  ): Promise<Environment> => {
    const project = await needProject(service, request);
    return change(service, request, reply, name, status, async (db, actor) =>
      environmentView(service, db, await act(db, project, actor)),
    );
  };
  const response = { 200: Environment };

  app.get('/api/projects/:project/reviews', { schema: { response: { 200: Page(Review) } } }, async (request) => {
    const project = await needProject(service, request);
    return { items: await reviewViews(service, context.records, project.id), next: null };
  });
  app.get('/api/reviews', { schema: { response: { 200: Page(Review) } } }, async (request) => ({
    items: await reviewViews(service, context.records, (request.caller as Caller).project ?? null),
    next: null,
  }));

  app.post(
    '/api/projects/:project/reviews',
    { schema: { body: OpenReview, response: { 201: Environment } } },
    (request, reply) =>
      answered(request, reply, { name: 'review.opened', status: 201 }, (db, project, actor) =>
        openBranchReview(context, db, project, request.body.branch, actor),
      ),
  );
  for (const [act, wanted] of [
    ['wake', 'awake'],
    ['sleep', 'asleep'],
  ] as const)
    app.post(`/api/projects/:project/environments/:name/${act}`, { schema: { response } }, (request, reply) =>
      answered(request, reply, { name: 'environment.wished' }, (db, project, actor) =>
        wish(context, db, project, nameOf(request), wanted, actor),
      ),
    );
  app.post(
    '/api/projects/:project/environments/:name/keep',
    { schema: { body: KeepReview, response } },
    (request, reply) =>
      answered(request, reply, { name: 'environment.kept' }, (db, project, actor) =>
        keep(db, project, nameOf(request), { until: new Date(context.now() + request.body.ms), actor }),
      ),
  );
  for (const [act, again] of [
    ['reset', true],
    ['close', false],
  ] as const)
    app.post(`/api/projects/:project/environments/:name/${act}`, { schema: { response } }, (request, reply) =>
      answered(request, reply, { name: 'environment.closing' }, (db, project, actor) =>
        close(db, project, nameOf(request), { again, actor }),
      ),
    );
}
