import { settleAuthors } from '../../../engine/promotion/approvals.js';
import { environmentById, findEnvironment } from '../../../records/deployments/environments.js';
import { Type } from '@sinclair/typebox';
import type { FastifyRequest } from 'fastify';
import { allTraffic } from '../../../core/cutover/route.js';
import { CodedError } from '../../../core/errors/errors.js';
import { atLeast } from '../../../core/states.js';
import { deploy, deployAgain, needRelease, needsReleaser } from '../../../engine/deployments/acts.js';
import { beginAtOnce } from '../../../engine/deployments/deployments.js';
import { lookAhead } from '../../../engine/promotion/look-ahead.js';
import { restart } from '../../../engine/deployments/restarts.js';
import { scale } from '../../../engine/deployments/scaling.js';
import { promote } from '../../../engine/promotion/promotions.js';
import { chooseRevert, lookAtRevert, refuseRevert } from '../../../engine/deployments/revert-ahead.js';
import { hold, lift, revert, stopDeployment, undoRevert } from '../../../engine/deployments/reverts.js';
import { permitCopies } from '../../../engine/resources/origins.js';
import { type DeploymentRow, findDeployment } from '../../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../../records/deployments/environments.js';
import type { ProjectRow } from '../../../records/projects/projects.js';
import type { Caller } from '../../../records/callers/people.js';
import {
  Ask,
  Copies,
  CopiesBody,
  Deployment,
  Environment,
  EnvironmentDetail,
  Hold,
  LastLook,
  RestartBody,
  Restarted,
  RevertAhead,
  ScaleBody,
  Size,
  DeploymentDetail,
} from '../../../wire/environments/environments.js';
import { Page } from '../../../wire/parts.js';
import { Promotion } from '../../../wire/releases.js';
import { roleForAct } from '../../access.js';
import { awake } from '../../waking.js';
import { type App, change, needEnvironment, needProject, notFound, requireAccess, type Service } from '../../server.js';
import { environmentView, environmentViews } from '../../views/board.js';
import { deploymentDetail } from '../../views/deployments.js';
import { copiesView, environmentDetail } from '../../views/environments.js';
import { commitView, commitViews } from '../../views/basics.js';
import { deploymentOf, deploymentView, promotionView, revertView } from '../../views/releases.js';
import { NumberParams } from '../runs/runs.js';

export function environmentRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;
  const nameOf = (request: FastifyRequest) => (request.params as { name: string }).name;
  const settleAuthorsAt = async (project: ProjectRow, name: string): Promise<void> => {
    const environment = await findEnvironment(records, project.id, name);
    if (environment) await settleAuthors(context, project, environment);
  };

  app.get(
    '/api/projects/:project/environments',
    { schema: { response: { 200: Page(Environment) } } },
    async (request) => {
      const project = await needProject(service, request);
      return { items: await environmentViews(service, records, project.id), next: null };
    },
  );

  app.get(
    '/api/projects/:project/environments/:name',
    { schema: { response: { 200: EnvironmentDetail } } },
    async (request) => {
      const { project, environment } = await needEnvironment(service, request);
      return environmentDetail(service, records, project, environment);
    },
  );

  app.get(
    '/api/projects/:project/environments/:name/promotion',
    {
      schema: {
        querystring: Type.Object(
          { release: Type.Optional(Type.Integer({ minimum: 1 })) },
          { additionalProperties: false },
        ),
        response: { 200: Promotion },
      },
    },
    async (request) => {
      const project = await needProject(service, request);
      await settleAuthorsAt(project, nameOf(request));
      return promotionView(service, records, project, nameOf(request), request.query.release ?? null);
    },
  );

  app.get(
    '/api/projects/:project/environments/:name/look',
    {
      schema: {
        querystring: Type.Object({ release: Type.Integer({ minimum: 1 }) }, { additionalProperties: false }),
        response: { 200: LastLook },
      },
    },
    async (request): Promise<LastLook> => {
      const { project, environment } = await needEnvironment(service, request);
      const release = await needRelease(records, project, request.query.release);
      const { cost, prices, ...look } = await lookAhead(service.context, records, project, environment, release);
      return {
        ...look,
        release: release.number,
        currency: prices?.currency ?? null,
        memoryCost: cost?.memory ?? null,
        processorCostAtMost: cost?.processorAtMost ?? null,
      };
    },
  );

  app.get(
    '/api/projects/:project/environments/:name/revert',
    {
      schema: {
        querystring: Type.Object(
          { release: Type.Optional(Type.Integer({ minimum: 1 })) },
          { additionalProperties: false },
        ),
        response: { 200: RevertAhead },
      },
    },
    async (request): Promise<RevertAhead> => {
      const { project, environment } = await needEnvironment(service, request);
      const wish = { leaves: null, release: request.query.release ?? null };
      const choice = await chooseRevert(records, project, environment, wish);
      refuseRevert(choice, wish, `${project.name}/${environment.name}`);
      const look = await lookAtRevert(context, records, project, environment, choice);
      const commit = await commitViews(records, project.id, [...new Set(choice.way.map((one) => one.commit))]);
      return revertView(project.name, environment.name, look, choice.way, { commit, now: context.now() });
    },
  );

  app.post(
    '/api/projects/:project/environments/:name/deployments',
    { schema: { body: Ask, response: { 201: Deployment } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { kind, release, deployment, override, variables, oneWay, split, leaves, undo, why } = request.body;
      requireAccess(request.caller as Caller, override === undefined ? roleForAct[kind] : 'owner');
      if ((override !== undefined || split !== undefined) && kind !== 'promote')
        throw new CodedError('body_invalid', { detail: 'override and split are for promote alone.' });
      const ofRevert = { variables, oneWay, leaves, undo, why };
      if (kind !== 'revert' && Object.values(ofRevert).some((one) => one !== undefined))
        throw new CodedError('body_invalid', { detail: `${Object.keys(ofRevert).join(', ')} are for revert alone.` });
      if (undo && (variables ?? oneWay ?? leaves ?? release) !== undefined)
        throw new CodedError('body_invalid', { detail: 'undo stands alone: it brings back what the revert has left.' });
      if (
        kind === 'deploy' &&
        (await needsReleaser(records, project, nameOf(request))) &&
        !atLeast((request.caller as Caller).role ?? 'viewer', 'releaser')
      )
        throw new CodedError('rules_apply', {
          environment: `${project.name}/${nameOf(request)}`,
          after: 'another environment',
          release: `r${release ?? ''}`,
        });
      if (kind === 'deploy' && (release === undefined) === (deployment === undefined))
        throw new CodedError('body_invalid', { detail: 'release or deployment must be given to deploy.' });
      await settleAuthorsAt(project, nameOf(request));
      return change(service, request, reply, 'deployment.requested', 201, async (db, actor) => {
        const name = nameOf(request);
        if (undo) {
          const only = (request.caller as Caller).project;
          return deploymentView(
            db,
            project,
            await undoRevert(context, db, project, name, { actor, reason: why ?? null, only }),
          );
        }
        if (kind === 'revert') {
          const asked = await revert(context, db, project, name, {
            leaves: leaves ?? null,
            release: release ?? null,
            actor,
            ...(why ? { why } : {}),
            ...(variables ? { variables } : {}),
            ...(oneWay ? { oneWay } : {}),
          });
          // It is in a hurry: servers that are warm have the traffic when this is answered.
          if (asked.made === null)
            return {
              ...(await deploymentView(db, project, asked.deployment)),
              already: asked.already,
              ...(asked.keeps === null ? {} : { keeps: asked.keeps }),
            };
          const { environment, release: back } = asked.made;
          const begun = await beginAtOnce(context, db, asked.deployment, asked.made);
          return deploymentOf(project, environment, begun, back.number, await commitView(db, project.id, back.commit));
        }
        const row =
          kind === 'deploy'
            ? await (deployment === undefined
                ? deploy(context, db, project, name, release as number, actor)
                : deployAgain(context, db, project, name, deployment, actor))
            : await promote(context, db, project, name, release ?? null, {
                actor,
                why: override ?? null,
                ...(split ? { split: { ...split, share: Math.round(split.share * allTraffic) } } : {}),
              });
        return deploymentView(db, project, row);
      });
    },
  );

  const answered = async (
    request: FastifyRequest,
    act: (
      db: Parameters<Parameters<typeof records.transition>[1]>[0],
      project: Awaited<ReturnType<typeof needProject>>,
      actor: string,
    ) => Promise<EnvironmentRow>,
    reply: Parameters<typeof change>[2],
    name: string,
  ) => {
    const project = await needProject(service, request);
    return change(service, request, reply, name, 200, async (db, actor) =>
      environmentView(service, db, await act(db, project, actor)),
    );
  };

  app.post(
    '/api/projects/:project/environments/:name/hold',
    { schema: { body: Hold, response: { 200: Environment } } },
    (request, reply) =>
      answered(
        request,
        (db, project, actor) => hold(db, project, nameOf(request), request.body.why ?? '', actor),
        reply,
        'environment.held',
      ),
  );
  app.post(
    '/api/projects/:project/environments/:name/lift',
    { schema: { response: { 200: Environment } } },
    (request, reply) =>
      answered(request, (db, project, actor) => lift(db, project, nameOf(request), actor), reply, 'environment.lifted'),
  );

  app.post(
    '/api/projects/:project/environments/:name/copies',
    { schema: { body: CopiesBody, response: { 200: Copies } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      return change(service, request, reply, 'environment.copies', 200, async (db, actor) =>
        copiesView(
          db,
          await permitCopies(db, project, nameOf(request), { permit: request.body.permit, actor }),
          project.name,
        ),
      );
    },
  );

  /** What changes programs in an environment with rules is a releaser's act. */
  const needRuled = async (request: FastifyRequest, project: ProjectRow, name: string): Promise<void> => {
    if (await needsReleaser(records, project, name)) requireAccess(request.caller as Caller, 'releaser');
  };
  app.post(
    '/api/projects/:project/environments/:name/restart',
    { schema: { body: RestartBody, response: { 200: Restarted } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const name = nameOf(request);
      await needRuled(request, project, name);
      // What is replaced is awake, or nobody would see how that goes.
      await awake(service, reply, project, (await needEnvironment(service, request)).environment);
      return change(service, request, reply, 'environment.restarted', 200, (db, actor) =>
        restart(db, project, name, request.body.part ?? null, actor),
      );
    },
  );
  app.post(
    '/api/projects/:project/environments/:name/scale',
    { schema: { body: ScaleBody, response: { 200: Size } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const name = nameOf(request);
      await needRuled(request, project, name);
      await awake(service, reply, project, (await needEnvironment(service, request)).environment);
      return change(service, request, reply, 'environment.scaled', 200, (db, actor) =>
        scale(db, project, name, request.body, actor),
      );
    },
  );

  app.get(
    '/api/projects/:project/deployments/:number',
    { schema: { params: NumberParams, response: { 200: DeploymentDetail } } },
    async (request) => {
      const project = await needProject(service, request);
      return deploymentDetail(records, project, await needDeployment(project, request.params.number));
    },
  );

  app.post(
    '/api/projects/:project/deployments/:number/stop',
    { schema: { params: NumberParams, response: { 200: Deployment } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { number } = request.params;
      const { environment_id } = await needDeployment(project, number);
      const { name } = await environmentById(records, environment_id);
      if (await needsReleaser(records, project, name)) requireAccess(request.caller as Caller, 'releaser');
      return change(service, request, reply, 'deployment.stop-asked', 200, async (db, actor) =>
        deploymentView(db, project, await stopDeployment(db, project, number, actor)),
      );
    },
  );

  async function needDeployment(project: ProjectRow, number: number): Promise<DeploymentRow> {
    const row = await findDeployment(records, project.id, number);
    if (!row) throw notFound('deployment', `d${number}`);
    return row;
  }
}
