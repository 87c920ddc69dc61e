/** Alerts: listed with what is wrong now, added, tried, removed; and what each person is told of their own. */
import { Type } from '@sinclair/typebox';
import type { FastifyRequest } from 'fastify';
import { subjectOf } from '../../../core/alerts/words.js';
import { CodedError } from '../../../core/errors/errors.js';
import { addAlert, checkedTopics, needTarget, targetOf, tryTarget } from '../../../engine/deliveries/acts.js';
import type { Db } from '../../../records/database.js';
import { type Caller, personOf } from '../../../records/callers/people.js';
import { knownConditions } from '../../../records/deliveries/conditions.js';
import { deliveriesOf } from '../../../records/deliveries/deliveries.js';
import {
  findAlert,
  listAlerts,
  ownAlert,
  removeAlert,
  removeOwn,
  type SubscriptionRow,
} from '../../../records/deliveries/subscriptions.js';
import { recordEvents } from '../../../records/events.js';
import { findProject, projectById } from '../../../records/projects/projects.js';
import {
  AddedAlert,
  type Alert,
  AlertBody,
  AlertDetail,
  AlertPage,
  AlertTest,
  OwnAlert,
  OwnAlertBody,
} from '../../../wire/alerts.js';
import { type App, change, notFound, type Service } from '../../server.js';
import { said } from '../../views/basics.js';

/** How often one person may have a message sent. */
const tests = { config: { rateLimit: { max: 30, timeWindow: '1 minute' } } };
const named = Type.Object({ name: Type.String({ maxLength: 60 }) });

export function alertRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  const viewOf = async (row: SubscriptionRow): Promise<Alert> => ({
    name: row.name,
    channel: row.channel,
    target: row.target,
    topics: row.topics,
    project: row.project_id === null ? null : (await projectById(records, row.project_id)).name,
    environment: row.environment,
    by: row.actor,
    createdAt: row.created_at.toISOString(),
    issue: said(row.issue),
  });
  const needAlert = async (request: FastifyRequest) => {
    const { name } = request.params as { name: string };
    const row = await findAlert(records, name);
    if (!row) throw new CodedError('alert_unknown', { name: name.slice(0, 60) });
    return row;
  };

  app.get('/api/alerts', { schema: { response: { 200: AlertPage } } }, async () => ({
    items: await Promise.all((await listAlerts(records)).map(viewOf)),
    next: null,
    wrong: (await knownConditions(records))
      .filter((one) => one.goneAt === null)
      .map(({ topic, place, of, says, seenAt, begunAt }) => ({
        topic,
        place,
        of,
        says,
        since: new Date(seenAt).toISOString(),
        told: begunAt !== null,
      })),
  }));

  app.post(
    '/api/alerts',
    { schema: { body: AlertBody, response: { 201: AddedAlert } }, ...tests },
    async (request, reply) => {
      const { name, project: of, environment = null, topics, ...asked } = request.body;
      const project = of === undefined ? null : await findProject(records, of);
      if (of !== undefined && !project) throw notFound('project', of);
      const { secret, ...target } = targetOf(context, asked);
      const wanted = checkedTopics(topics);
      let test = '';
      const add = async (db: Db, actor: string) => {
        const row = await addAlert(db, target, {
          name,
          topics: wanted,
          project: project?.id ?? null,
          environment,
          person: null,
          actor,
        });
        return { ...(await viewOf(row)), secret, test };
      };
      return change(service, request, reply, 'alert.added', 201, add, async () => {
        if (await findAlert(records, name)) throw new CodedError('name_taken', { what: 'alert', name });
        test = (await needTarget(context, { ...target, name })).says;
      });
    },
  );

  app.get('/api/alerts/:name', { schema: { params: named, response: { 200: AlertDetail } } }, async (request) => {
    const row = await needAlert(request);
    return {
      ...(await viewOf(row)),
      deliveries: (await deliveriesOf(records, row.id, 50)).map((one) => ({
        id: one.id,
        state: one.state,
        subject: subjectOf(one.items),
        count: one.items.length,
        tries: one.tries,
        issue: said(one.issue),
        createdAt: one.created_at.toISOString(),
        endedAt: one.ended_at?.toISOString() ?? null,
      })),
    };
  });

  app.post(
    '/api/alerts/:name/test',
    { schema: { params: named, response: { 200: AlertTest } }, ...tests },
    async (request) => {
      const { accepted, says } = await tryTarget(context, await needAlert(request));
      return { accepted, says };
    },
  );

  app.delete('/api/alerts/:name', { schema: { params: named } }, async (request, reply) => {
    const row = await needAlert(request);
    await change(service, request, reply, 'alert.removed', 200, async (db, actor) => {
      await removeAlert(db, row.id);
      await recordEvents(db, {
        type: 'alert.removed',
        project: row.project_id,
        subject: row.name ?? '',
        actor,
        data: { channel: row.channel },
      });
      return {};
    });
    return {};
  });

  const needPerson = async (request: FastifyRequest): Promise<string> => {
    const person = await personOf(records, request.caller as Caller);
    if (person === null)
      throw new CodedError('token_grant', { name: 'a token of nobody', what: 'alerts of one’s own' });
    return person;
  };
  app.get('/api/me/alerts', { schema: { response: { 200: OwnAlert } } }, async (request) => {
    const row = await ownAlert(records, await needPerson(request));
    return { alert: row && (await viewOf(row)), secret: null };
  });
  app.post(
    '/api/me/alerts',
    { schema: { body: OwnAlertBody, response: { 200: OwnAlert } }, ...tests },
    async (request, reply) => {
      const person = await needPerson(request);
      const { topics, ...asked } = request.body;
      if (topics.length === 0)
        return change(service, request, reply, 'alert.removed', 200, async (db) => {
          await removeOwn(db, person);
          return { alert: null, secret: null };
        });
      const { secret, ...target } = targetOf(context, asked);
      const add = async (db: Db, actor: string) => ({
        alert: await viewOf(
          await addAlert(db, target, { name: null, topics, project: null, environment: null, person, actor }),
        ),
        secret,
      });
      return change(
        service,
        request,
        reply,
        'alert.added',
        200,
        add,
        async () => void (await needTarget(context, target)),
      );
    },
  );
}
