/** The rules of an environment: what counts, who approves, when nothing is taken. */
import type { FastifyRequest } from 'fastify';
import { CodedError } from '../../../core/errors/errors.js';
import { needRelease } from '../../../engine/deployments/acts.js';
import { approve, withdraw, writtenBy } from '../../../engine/promotion/approvals.js';
import { endFreeze, freeze } from '../../../engine/promotion/freezes.js';
import { acceptRules } from '../../../engine/promotion/loosened.js';
import { type Caller, personName, personOf } from '../../../records/callers/people.js';
import { AcceptRules, Approvals, ApproveBody, EnvironmentRules, FreezeBody } from '../../../wire/environments/rules.js';
import { type App, change, needEnvironment, needProject, type Service } from '../../server.js';
import { approvalsView, rulesView } from '../../views/rules.js';

export function ruleRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;
  const nameOf = (request: FastifyRequest) => (request.params as { name: string }).name;

  app.get(
    '/api/projects/:project/environments/:name/rules',
    { schema: { response: { 200: EnvironmentRules } } },
    async (request) => {
      const { project, environment } = await needEnvironment(service, request);
      return rulesView(service, records, project, environment);
    },
  );

  app.post(
    '/api/projects/:project/environments/:name/rules',
    { schema: { body: AcceptRules, response: { 200: EnvironmentRules } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      return change(service, request, reply, 'rules.accepted', 200, async (db, actor) =>
        rulesView(service, db, project, await acceptRules(db, project, nameOf(request), request.body.commit, actor)),
      );
    },
  );

  app.post(
    '/api/projects/:project/environments/:name/freeze',
    { schema: { body: FreezeBody, response: { 200: EnvironmentRules } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      return change(service, request, reply, 'freeze.set', 200, async (db, actor) =>
        rulesView(
          service,
          db,
          project,
          await freeze(context, db, project, nameOf(request), { ...request.body, actor }),
        ),
      );
    },
  );

  app.delete(
    '/api/projects/:project/environments/:name/freeze',
    { schema: { response: { 200: EnvironmentRules } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      return change(service, request, reply, 'freeze.ended', 200, async (db, actor) =>
        rulesView(service, db, project, await endFreeze(context, db, project, nameOf(request), actor)),
      );
    },
  );

  app.post(
    '/api/projects/:project/environments/:name/approvals',
    { schema: { body: ApproveBody, response: { 200: Approvals } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const id = await personOf(records, request.caller as Caller);
      const name = id === null ? null : await personName(records, id);
      if (id === null || name === null) throw new CodedError('approval_person');
      const asked = { project, environment: nameOf(request), release: request.body.release, person: { id, name } };
      // Asked of git before anything is locked.
      const release = await needRelease(records, project, asked.release);
      const writers = request.body.withdraw
        ? { names: new Set<string>(), against: '' }
        : await writtenBy(context, project, asked.environment, release);
      return change(service, request, reply, 'approval.given', 200, async (db) => {
        const environment = request.body.withdraw
          ? await withdraw(db, asked)
          : await approve(context, db, { ...asked, writers });
        return approvalsView(db, project, environment, release);
      });
    },
  );
}
