/** Acts on reviews: open one for a branch, wake, sleep, keep, begin anew, close. */
import type { FastifyReply, FastifyRequest } from 'fastify';
import { openBranchReview } from '../../../engine/environments/reviews.js';
import { close, keep, wish } from '../../../engine/environments/wishes.js';
import type { Db } from '../../../records/database.js';
import type { EnvironmentRow } from '../../../records/deployments/environments.js';
import type { ProjectRow } from '../../../records/projects/projects.js';
import { linksOf } from '../../../records/callers/passes.js';
import { hostsOf } from '../../../records/figures/names.js';
import { Environment, KeepReview, OpenReview } from '../../../wire/environments/environments.js';
import { CodedError } from '../../../core/errors/errors.js';
import { urlOf } from '../../../engine/context.js';
import { codeFor, endLinks, makeLink } from '../../../engine/environments/gate.js';
import { type App, change, needEnvironment, needProject, notFound, type Service } from '../../server.js';
import type { Caller } from '../../../records/callers/people.js';
import {
  EndedLinks,
  EndLinks,
  GateBody,
  GateWay,
  MadeLink,
  MakeLink,
  Review,
  ReviewLink,
} from '../../../wire/environments/reviews.js';
import { Page } from '../../../wire/parts.js';
import { environmentView } from '../../views/board.js';
import { linkView, reviewViews } from '../../views/reviews.js';

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
  const links = '/api/projects/:project/environments/:name/links';
  app.get(links, { schema: { response: { 200: Page(ReviewLink) } } }, async (request) => {
    const { environment } = await needEnvironment(service, request);
    return { items: (await linksOf(context.records, environment.id)).map(linkView), next: null };
  });
  app.post(links, { schema: { body: MakeLink, response: { 201: MadeLink } } }, async (request, reply) => {
    const project = await needProject(service, request);
    return change(service, request, reply, 'review.link-made', 201, async (db, actor) => {
      const { link, url } = await makeLink(context, db, project, {
        name: nameOf(request),
        ms: request.body.ms,
        actor,
      });
      return { ...linkView(link), url };
    });
  });
  app.delete(links, { schema: { body: EndLinks, response: { 200: EndedLinks } } }, async (request, reply) => {
    const project = await needProject(service, request);
    return change(service, request, reply, 'review.link-ended', 200, async (db, actor) => ({
      count: await endLinks(db, project, { name: nameOf(request), link: request.body.link ?? null, actor }),
    }));
  });
  app.post('/api/gate', { schema: { body: GateBody, response: { 200: GateWay } } }, async (request) => {
    const { host, door, to } = request.body;
    const { session = null } = request.caller as Caller & { session?: string };
    if (session === null) throw new CodedError('gate_session');
    if (!(await hostsOf(context.records, [host])).has(host)) throw notFound('review', host);
    const way = new URL('/_tsunagi/gate', urlOf(context.addresses, host));
    way.searchParams.set('code', codeFor(context, { host, session, door }));
    way.searchParams.set('to', to);
    return { url: way.href };
  });

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
