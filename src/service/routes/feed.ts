/** Events as a list and live: server-sent events with Last-Event-ID. */
import { Type } from '@sinclair/typebox';
import type { FastifyRequest } from 'fastify';
import { activityGroupNames, activityGroups } from '../../core/activity.js';
import { CodedError } from '../../core/errors/errors.js';
import { sealHash } from '../../keys/keys.js';
import { checkSeals, lastEventNumber, listEvents } from '../../records/events.js';
import type { Caller } from '../../records/callers/people.js';
import { projectById } from '../../records/projects/projects.js';
import { Event, EventCheck } from '../../wire/overview.js';
import { oneOf, Page, PageQuery } from '../../wire/parts.js';
import type { App, Service } from '../server.js';
import { answerStream } from '../stream.js';
import { eventView } from '../views/basics.js';

const EventQuery = Type.Object(
  {
    project: Type.Optional(Type.String()),
    type: Type.Optional(Type.String()),
    subject: Type.Optional(Type.String()),
    /** Who did it. */
    actor: Type.Optional(Type.String({ maxLength: 200 })),
    /** Only what people did, not what followed by itself. */
    people: Type.Optional(Type.Boolean()),
    about: Type.Optional(oneOf(activityGroupNames)),
    after: Type.Optional(Type.String({ pattern: '^[0-9]{1,18}$' })),
    ...PageQuery,
  },
  { additionalProperties: false },
);
export function feedRoutes(app: App, service: Service): void {
  const { records } = service.context;

  app.get('/api/events', { schema: { querystring: EventQuery, response: { 200: Page(Event) } } }, async (request) => {
    const query = request.query;
    const limit = query.limit ?? 50;
    if (query.cursor && !/^\d{1,18}$/.test(query.cursor)) throw new CodedError('cursor_wrong');
    const project = await boundProject(request, query.project);
    const rows = await listEvents(records, {
      limit: limit + 1,
      newestFirst: query.after === undefined,
      ...(query.cursor
        ? query.after === undefined
          ? { before: query.cursor }
          : { after: query.cursor }
        : query.after
          ? { after: query.after }
          : {}),
      ...(project ? { project } : {}),
      ...(query.type ? { type: query.type.replace(/^dev\.tsunagi\./, '') } : {}),
      ...(query.subject ? { subject: query.subject } : {}),
      ...(query.actor ? { actor: query.actor } : {}),
      ...(query.people ? { people: true } : {}),
      ...(query.about ? { kinds: activityGroups[query.about] } : {}),
    });
    return {
      items: rows.slice(0, limit).map(eventView),
      next: rows.length > limit ? (rows[limit - 1]?.number ?? null) : null,
    };
  });

  app.get('/api/events/check', { schema: { response: { 200: EventCheck } } }, async () => {
    const { keys } = service.context;
    return {
      ...(await checkSeals(records, sealHash, (hash, signature) => keys.verify(hash, signature))),
      newest: await lastEventNumber(records),
    };
  });

  async function boundProject(request: FastifyRequest, asked: string | undefined): Promise<string | undefined> {
    const { project } = request.caller as Caller;
    return project ? (await projectById(records, project)).name : asked;
  }

  app.get(
    '/api/feed',
    { schema: { querystring: Type.Object({ project: Type.Optional(Type.String()) }) } },
    async (request, reply) => {
      const given = request.headers['last-event-id'];
      let after = typeof given === 'string' && /^\d{1,18}$/.test(given) ? given : await lastEventNumber(records);
      const project = await boundProject(request, request.query.project);
      await answerStream(
        service,
        request,
        reply,
        (topic) => topic === 'feed',
        async (stream) => {
          await stream.send('open', { after }, after);
          while (!stream.ended()) {
            const rows = await listEvents(records, {
              after,
              limit: 200,
              newestFirst: false,
              ...(project ? { project } : {}),
            });
            for (const row of rows) {
              await stream.send('event', eventView(row), row.number);
              if (stream.ended()) return;
            }
            after = rows.at(-1)?.number ?? after;
            if (rows.length < 200) await stream.idle();
          }
        },
      );
      return reply;
    },
  );
}
