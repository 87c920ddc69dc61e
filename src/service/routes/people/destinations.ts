/** Destinations of logs: listed, added, tried, removed. */
import { sealedPlace } from '../../../keys/places.js';
import { Type } from '@sinclair/typebox';
import type { FastifyRequest } from 'fastify';
import { CodedError } from '../../../core/errors/errors.js';
import { keepDestination, logTargetOf, needDestination, tryDestination } from '../../../engine/destinations/acts.js';
import {
  type DestinationRow,
  findDestination,
  listDestinations,
  removeDestination,
} from '../../../records/deliveries/destinations.js';
import { recordEvents } from '../../../records/events.js';
import { findProject, projectById } from '../../../records/projects/projects.js';
import { AlertTest } from '../../../wire/alerts.js';
import { Destination, DestinationBody } from '../../../wire/destinations.js';
import { Page } from '../../../wire/parts.js';
import { type App, change, notFound, type Service } from '../../server.js';
import { iso, said } from '../../views/basics.js';

/** How often one person may have a line sent. */
const tests = { config: { rateLimit: { max: 30, timeWindow: '1 minute' } } };
const named = Type.Object({ name: Type.String({ maxLength: 60 }) });

export function destinationRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  const viewOf = async (row: DestinationRow): Promise<Destination> => ({
    name: row.name,
    kind: row.kind,
    url: row.url,
    header:
      row.sealed === null
        ? null
        : (JSON.parse(context.keys.decrypt(row.sealed, sealedPlace('destinations', row.id))) as { name: string }).name,
    project: row.project_id === null ? null : (await projectById(records, row.project_id)).name,
    environment: row.environment,
    by: row.actor,
    createdAt: row.created_at.toISOString(),
    sentAt: iso(row.sent_at),
    sentLines: Number(row.sent_lines),
    leftBytes: Number(row.left_bytes),
    issue: said(row.issue),
  });
  const need = async (request: FastifyRequest) => {
    const { name } = request.params as { name: string };
    const row = await findDestination(records, name);
    if (!row) throw new CodedError('destination_unknown', { name: name.slice(0, 60) });
    return row;
  };

  app.get('/api/destinations', { schema: { response: { 200: Page(Destination) } } }, async () => ({
    items: await Promise.all((await listDestinations(records)).map(viewOf)),
    next: null,
  }));

  app.post(
    '/api/destinations',
    { schema: { body: DestinationBody, response: { 201: Destination } }, ...tests },
    async (request, reply) => {
      const { name, project: of, environment = null, ...asked } = request.body;
      const project = of === undefined ? null : await findProject(records, of);
      if (of !== undefined && !project) throw notFound('project', of);
      const target = logTargetOf(context, { name, ...asked });
      return change(
        service,
        request,
        reply,
        'destination.added',
        201,
        async (db, actor) =>
          viewOf(await keepDestination(db, target, { name, project: project?.id ?? null, environment, actor })),
        async () => {
          if (await findDestination(records, name)) throw new CodedError('name_taken', { what: 'destination', name });
          await needDestination(context, target, name);
        },
      );
    },
  );

  app.post(
    '/api/destinations/:name/test',
    { schema: { params: named, response: { 200: AlertTest } }, ...tests },
    async (request) => {
      const row = await need(request);
      return tryDestination(context, row, row.name);
    },
  );

  app.delete('/api/destinations/:name', { schema: { params: named } }, async (request, reply) => {
    const row = await need(request);
    return change(service, request, reply, 'destination.removed', 200, async (db, actor) => {
      await removeDestination(db, row.id);
      await recordEvents(db, {
        type: 'destination.removed',
        project: row.project_id,
        subject: row.name,
        actor,
        data: { kind: row.kind },
      });
      return {};
    });
  });
}
