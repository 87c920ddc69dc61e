/** Events as a list and live, and logs: server-sent events (WHATWG HTML, 9.2) with Last-Event-ID. */
import { Type } from '@sinclair/typebox';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { CodedError } from '../../core/errors.js';
import { attemptEnded } from '../../core/states.js';
import { attemptById } from '../../records/attempts.js';
import { instanceById } from '../../records/instances.js';
import { lastEventNumber, listEvents } from '../../records/events.js';
import { readLog, tailStart } from '../../records/logs.js';
import type { Caller } from '../../records/people.js';
import { projectById } from '../../records/projects.js';
import { Event, LogChunk, Page, PageQuery } from '../../wire/api.js';
import { Id } from '../../wire/parts.js';
import { notFound, type Service } from '../server.js';
import { eventView } from '../views/basics.js';

const EventQuery = Type.Object(
  {
    project: Type.Optional(Type.String()),
    type: Type.Optional(Type.String()),
    subject: Type.Optional(Type.String()),
    after: Type.Optional(Type.String({ pattern: '^[0-9]{1,18}$' })),
    ...PageQuery,
  },
  { additionalProperties: false },
);
const LogQuery = Type.Object(
  {
    from: Type.Optional(Type.Integer({ minimum: 0 })),
    tail: Type.Optional(Type.Integer({ minimum: 1, maximum: 10_000_000 })),
    follow: Type.Optional(Type.Boolean()),
  },
  { additionalProperties: false },
);

export function feedRoutes(app: FastifyInstance, service: Service): void {
  const { records } = service.context;

  app.get('/api/events', { schema: { querystring: EventQuery, response: { 200: Page(Event) } } }, async (request) => {
    const query = request.query as { project?: string; type?: string; subject?: string; after?: string; cursor?: string; limit?: number };
    const limit = query.limit ?? 50;
    if (query.cursor && !/^\d{1,18}$/.test(query.cursor)) throw new CodedError('cursor_wrong');
    const project = await boundProject(request, query.project);
    const rows = await listEvents(records, {
      limit: limit + 1,
      newestFirst: query.after === undefined,
      ...(query.cursor ? (query.after === undefined ? { before: query.cursor } : { after: query.cursor }) : query.after ? { after: query.after } : {}),
      ...(project ? { project } : {}),
      ...(query.type ? { type: query.type.replace(/^dev\.tsunagi\./, '') } : {}),
      ...(query.subject ? { subject: query.subject } : {}),
    });
    return { items: rows.slice(0, limit).map(eventView), next: rows.length > limit ? (rows[limit - 1]?.number ?? null) : null };
  });

  async function boundProject(request: FastifyRequest, asked: string | undefined): Promise<string | undefined> {
    const { project } = request.caller as Caller;
    return project ? (await projectById(records, project)).name : asked;
  }

  app.get('/api/feed', { schema: { querystring: Type.Object({ project: Type.Optional(Type.String()) }) } }, async (request, reply) => {
    const given = request.headers['last-event-id'];
    let after = typeof given === 'string' && /^\d{1,18}$/.test(given) ? given : await lastEventNumber(records);
    const project = await boundProject(request, (request.query as { project?: string }).project);
    const stream = openStream(service, reply);
    stream.send('open', { after }, after);
    while (!stream.ended()) {
      const rows = await listEvents(records, { after, limit: 200, newestFirst: false, ...(project ? { project } : {}) });
      for (const row of rows) stream.send('event', eventView(row), row.number);
      after = rows.at(-1)?.number ?? after;
      if (rows.length < 200) await stream.idle((topic) => topic === 'feed');
    }
  });

  app.get(
    '/api/attempts/:id/log',
    { schema: { params: Type.Object({ id: Id }), querystring: LogQuery, response: { 200: Page(LogChunk) } } },
    async (request, reply) => {
      const { id } = request.params as { id: string };
      await allowed(request, (await attemptById(records, id))?.project_id, id);
      return sendLog(request, reply, id, async () => {
        const attempt = await attemptById(records, id);
        return { over: !attempt || attemptEnded(attempt.state), facts: { state: attempt?.state } };
      });
    },
  );

  app.get(
    '/api/instances/:id/log',
    { schema: { params: Type.Object({ id: Id }), querystring: LogQuery, response: { 200: Page(LogChunk) } } },
    async (request, reply) => {
      const { id } = request.params as { id: string };
      const row = await records.one<{ project_id: string }>(
        'select d.project_id from instances i join deployments d on d.id = i.deployment_id where i.id = $1',
        [id],
      );
      await allowed(request, row?.project_id, id);
      return sendLog(request, reply, id, async () => {
        const instance = await instanceById(records, id);
        return { over: !instance || instance.state === 'ended' || instance.state === 'failed' || instance.state === 'lost', facts: { state: instance?.state } };
      });
    },
  );

  async function allowed(request: FastifyRequest, project: string | undefined, id: string): Promise<void> {
    const bound = (request.caller as Caller).project;
    if (!project || (bound && bound !== project)) throw notFound('log', id);
  }

  /** As a page of chunks, or live until its work is over: `chunk` events, each with the position behind it as its id, then `end`. */
  async function sendLog(request: FastifyRequest, reply: FastifyReply, id: string, state: () => Promise<{ over: boolean; facts: object }>): Promise<unknown> {
    const query = request.query as { from?: number; tail?: number; follow?: boolean };
    const given = request.headers['last-event-id'];
    let from =
      typeof given === 'string' && /^\d{1,15}$/.test(given) ? Number(given) : query.tail ? await tailStart(records, id, query.tail) : (query.from ?? 0);
    const next = async () => {
      const chunks = await readLog(records, id, from, 64);
      const last = chunks.at(-1);
      if (last) from = last.position + last.bytes.length;
      return chunks.map((chunk) => ({
        position: chunk.position,
        command: chunk.command,
        firstLine: chunk.firstLine,
        text: chunk.bytes.toString('utf8'),
        end: chunk.position + chunk.bytes.length,
      }));
    };
    if (!query.follow) {
      const chunks = await next();
      return { items: chunks, next: chunks.length === 64 ? String(from) : null };
    }
    const stream = openStream(service, reply);
    while (!stream.ended()) {
      // Whether it is over is asked first: what came before that is then in the chunks.
      const { over, facts } = await state();
      const chunks = await next();
      for (const { end, ...chunk } of chunks) stream.send('chunk', chunk, String(end));
      if (chunks.length === 64) continue;
      if (over) {
        stream.send('end', facts);
        stream.end();
        return reply;
      }
      await stream.idle((topic) => topic === `log:${id}`);
    }
    return reply;
  }
}

interface EventStream {
  send(event: string, data: unknown, id?: string): void;
  /** Waits for a topic, with a sign of life every 10 s, and until the reader has taken what was sent. */
  idle(matches: (topic: string) => boolean): Promise<void>;
  ended(): boolean;
  end(): void;
}

function openStream(service: Service, reply: FastifyReply): EventStream {
  reply.hijack();
  const { raw } = reply;
  raw.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
  const gone = new AbortController();
  raw.on('close', () => gone.abort());
  const close = () => raw.end();
  service.closing.addEventListener('abort', close);
  raw.on('close', () => service.closing.removeEventListener('abort', close));
  // What is heard while the records are being read must not be missed: the flag is raised by every topic.
  let heard = false;
  const off = service.hub.on(
    () => true,
    () => {
      heard = true;
    },
  );
  raw.on('close', off);
  return {
    send(event, data, id) {
      raw.write(`${id ? `id: ${id}\n` : ''}event: ${event}\ndata: ${JSON.stringify(data)}\n\n`);
    },
    async idle(matches) {
      if (raw.writableNeedDrain) await new Promise<void>((resolve) => void raw.once('drain', resolve).once('close', resolve));
      if (heard) {
        heard = false;
        return;
      }
      await service.hub.wait(matches, 10_000, gone.signal);
      heard = false;
      if (!raw.writableEnded && !gone.signal.aborted) raw.write(': still here\n\n');
    },
    ended: () => gone.signal.aborted || raw.writableEnded || service.closing.aborted,
    end: () => void raw.end(),
  };
}
