/** Logs of attempts and instances: in pages, live, searched, and as a whole text. */
import { Readable } from 'node:stream';
import { Type } from '@sinclair/typebox';
import type { FastifyReply, FastifyRequest } from 'fastify';
import { attemptEnded } from '../../../core/states.js';
import { attemptById } from '../../../records/runs/attempts.js';
import { instanceById, instancesOfEnvironment, projectOfInstance } from '../../../records/deployments/instances.js';
import { gapOf, readLog, tailStart } from '../../../records/runs/logs.js';
import type { Caller } from '../../../records/callers/people.js';
import { instancesByIds } from '../../../records/figures/names.js';
import { searchLog, searchStreams } from '../../../engine/runs/search.js';
import { EnvironmentLines, FoundLines, LogChunk } from '../../../wire/logs.js';
import { Page, type PageOf } from '../../../wire/parts.js';
import { Id, Time } from '../../../wire/parts.js';
import { type App, needEnvironment, notFound, requireAccess, type Service } from '../../server.js';
import { answerStream } from '../../stream.js';

const LogQuery = Type.Object(
  {
    from: Type.Optional(Type.Integer({ minimum: 0 })),
    tail: Type.Optional(Type.Integer({ minimum: 1, maximum: 10_000_000 })),
    follow: Type.Optional(Type.Boolean()),
  },
  { additionalProperties: false },
);

const SearchQuery = Type.Object(
  {
    text: Type.String({ minLength: 1, maxLength: 200 }),
    from: Type.Optional(Type.Integer({ minimum: 0 })),
    limit: Type.Optional(Type.Integer({ minimum: 1, maximum: 1000 })),
  },
  { additionalProperties: false },
);
const LinesQuery = Type.Object(
  {
    /** Default: ten minutes ago. */
    since: Type.Optional(Time),
    part: Type.Optional(Type.String({ maxLength: 40 })),
    find: Type.Optional(Type.String({ maxLength: 200 })),
    limit: Type.Optional(Type.Integer({ minimum: 1, maximum: 2_000 })),
  },
  { additionalProperties: false },
);
/** Milliseconds of an environment's logs that are looked at when nobody says since when. */
const linesMs = 600_000;
/** Programs whose logs are looked through at once: the newest. */
const mostStreams = 60;

/** Chunks (of up to 512 KiB) of one page, and of those that one live reader has in memory. */
const chunksAtOnce = 64;
const chunksLive = 4;

export function logRoutes(app: App, service: Service): void {
  const { records } = service.context;

  app.get(
    '/api/attempts/:id/log',
    { schema: { params: Type.Object({ id: Id }), querystring: LogQuery, response: { 200: Page(LogChunk) } } },
    async (request, reply) => {
      const { id } = request.params;
      await allowedAttempt(request, id);
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
      const { id } = request.params;
      await allowed(request, (await projectOfInstance(records, id)) ?? undefined, id);
      return sendLog(request, reply, id, async () => {
        const instance = await instanceById(records, id);
        return {
          over: !instance || instance.state === 'ended' || instance.state === 'failed' || instance.state === 'lost',
          facts: { state: instance?.state },
        };
      });
    },
  );

  app.get(
    '/api/projects/:project/environments/:name/logs',
    { schema: { querystring: LinesQuery, response: { 200: EnvironmentLines } } },
    async (request): Promise<EnvironmentLines> => {
      const { project, environment } = await needEnvironment(service, request);
      const { since, part, find = '', limit = 500 } = request.query;
      const from = since ? new Date(since) : new Date(service.context.now() - linesMs);
      const instances = (await instancesOfEnvironment(records, environment.id))
        .filter((one) => (!part || one.part === part) && (one.ended_at === null || one.ended_at >= from))
        .slice(0, mostStreams);
      const { lines, more } = await searchStreams(
        service.context,
        project.id,
        instances.map((one) => one.id),
        { since: from, text: find, limit },
      );
      const names = await instancesByIds(records, null, [...new Set(lines.map((one) => one.instance))]);
      return {
        more,
        lines: lines.map((one) => ({
          instance: names.get(one.instance)?.label ?? one.instance,
          deployment: names.get(one.instance)?.deployment ?? 0,
          at: one.at.toISOString(),
          line: one.line,
          text: one.text,
        })),
      };
    },
  );

  app.get(
    '/api/attempts/:id/log/search',
    { schema: { params: Type.Object({ id: Id }), querystring: SearchQuery, response: { 200: FoundLines } } },
    async (request) => {
      const { id } = request.params;
      const { project_id: project } = await allowedAttempt(request, id);
      const { text, from = 0, limit = 100 } = request.query;
      return searchLog(service.context, project, id, text, from, limit);
    },
  );

  app.get('/api/attempts/:id/log/text', { schema: { params: Type.Object({ id: Id }) } }, async (request, reply) => {
    const { id } = request.params;
    await allowedAttempt(request, id);
    return reply
      .type('text/plain; charset=utf-8')
      .header('content-disposition', `attachment; filename="attempt-${id.slice(0, 8)}.log"`)
      .send(Readable.from(wholeText(id)));
  });

  async function* wholeText(id: string): AsyncGenerator<Buffer> {
    const gap = await gapOf(records, id);
    for (let from = 0; ; ) {
      const chunks = await readLog(records, id, from, chunksAtOnce);
      for (const chunk of chunks) {
        if (gap && chunk.firstLine === gap.line + gap.lines && chunk.position > 0)
          yield Buffer.from(`\n[${gap.lines} lines, ${gap.bytes} bytes, are not kept]\n`);
        yield chunk.bytes;
        from = chunk.position + chunk.bytes.length;
      }
      if (chunks.length < chunksAtOnce) return;
    }
  }

  /** What makes copies fit for others prints what it finds in data that is not fit yet. */
  async function allowedAttempt(request: FastifyRequest, id: string) {
    const attempt = await attemptById(records, id);
    await allowed(request, attempt?.project_id, id);
    if (!attempt) throw notFound('log', id);
    if (attempt.kind === 'scrub') requireAccess(request.caller as Caller, 'releaser');
    return attempt;
  }

  async function allowed(request: FastifyRequest, project: string | undefined, id: string): Promise<void> {
    const bound = (request.caller as Caller).project;
    if (!project || (bound && bound !== project)) throw notFound('log', id);
  }

  /** As a page of chunks, or live until its work is over: `chunk` events, each with the position behind it as its id, then `end`. */
  async function sendLog(
    request: FastifyRequest,
    reply: FastifyReply,
    id: string,
    state: () => Promise<{ over: boolean; facts: object }>,
  ): Promise<PageOf<LogChunk>> {
    const query = request.query as { from?: number; tail?: number; follow?: boolean };
    const given = request.headers['last-event-id'];
    let from =
      typeof given === 'string' && /^\d{1,15}$/.test(given)
        ? Number(given)
        : query.tail
          ? await tailStart(records, id, query.tail)
          : (query.from ?? 0);
    const next = async (atOnce: number) => {
      const chunks = await readLog(records, id, from, atOnce);
      const gap = chunks.length ? await gapOf(records, id) : null;
      const last = chunks.at(-1);
      if (last) from = last.position + last.bytes.length;
      return chunks.map((chunk) => ({
        position: chunk.position,
        command: chunk.command,
        firstLine: chunk.firstLine,
        text: chunk.bytes.toString('utf8'),
        skipped: gap && chunk.firstLine === gap.line + gap.lines ? { lines: gap.lines, bytes: gap.bytes } : null,
        end: chunk.position + chunk.bytes.length,
      }));
    };
    if (!query.follow) {
      const chunks = await next(chunksAtOnce);
      return { items: chunks, next: chunks.length === chunksAtOnce ? String(from) : null };
    }
    await answerStream(
      service,
      request,
      reply,
      (topic) => topic === `log:${id}`,
      async (stream) => {
        while (!stream.ended()) {
          // Whether it is over is asked first: what came before that is then in the chunks.
          const { over, facts } = await state();
          const chunks = await next(chunksLive);
          for (const { end, ...chunk } of chunks) {
            await stream.send('chunk', chunk, String(end));
            if (stream.ended()) return;
          }
          if (chunks.length === chunksLive) continue;
          if (over) return stream.send('end', facts);
          await stream.idle();
        }
      },
    );
    // It is answered already.
    return reply as never;
  }
}
