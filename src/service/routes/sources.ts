/** Pushes to hosted repositories over smart HTTP, and signed events of code hosts. */
import { PassThrough, Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { Type } from '@sinclair/typebox';
import { Value } from '@sinclair/typebox/value';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { CodedError } from '../../core/errors.js';
import { atLeast } from '../../core/states.js';
import { ensureRepository } from '../../engine/context.js';
import { compareBranches, intakeTypes } from '../../engine/sources.js';
import { advertise, exchange, isGitService, parsePush, type PushCommand, refusePush } from '../../git/transfer.js';
import { isCommitId } from '../../git/repository.js';
import { checkEvent } from '../../keys/keys.js';
import { recordEvents } from '../../records/events.js';
import type { Caller } from '../../records/people.js';
import { findProject, type ProjectRow } from '../../records/projects.js';
import { intendPush, recordIntake } from '../../records/sources.js';
import { gitCaller, notFound, type Service } from '../server.js';

/** Bytes of the head of a push in which its commands must stand. */
const headLimit = 1024 * 1024;
const eventLimit = 256 * 1024;

export function sourceRoutes(app: FastifyInstance, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.register(async (scope) => {
    // A pack is not kept in memory: the body stays a stream.
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('*', (_request, payload, done) => done(null, payload));

    const enter = async (request: FastifyRequest): Promise<{ project: ProjectRow; caller: Caller; repository: string }> => {
      const name = (request.params as { project: string }).project.replace(/\.git$/, '');
      const caller = await gitCaller(service, request);
      if (!caller) throw new CodedError('sign_in_needed');
      const project = await findProject(records, name);
      if (!project || caller.kind !== 'person' || (caller.project && caller.project !== project.id)) throw notFound('project', name);
      return { project, caller, repository: await ensureRepository(context, project) };
    };
    const mayPush = (project: ProjectRow, caller: Caller) => {
      if (project.source !== 'hosted') throw new CodedError('source_kind', { project: project.name, kind: 'its code host', way: 'pushes' });
      if (!caller.role || !atLeast(caller.role, 'developer')) throw new CodedError('push_refused', { project: project.name });
    };
    const protocol = (request: FastifyRequest) =>
      /^version=[12]$/.test(String(request.headers['git-protocol'])) ? String(request.headers['git-protocol']) : '';

    scope.get('/git/:project/info/refs', { config: { rateLimit: { max: 600, timeWindow: '1 minute' } } }, async (request, reply) => {
      const { project, caller, repository } = await enter(request);
      const { service: asked } = request.query as { service?: string };
      if (!isGitService(asked)) throw new CodedError('body_invalid', { detail: 'service must be git-upload-pack or git-receive-pack.' });
      if (asked === 'git-receive-pack') mayPush(project, caller);
      return reply
        .header('cache-control', 'no-store')
        .type(`application/x-${asked}-advertisement`)
        .send(await advertise(repository, asked, protocol(request)));
    });

    scope.post('/git/:project/git-upload-pack', { bodyLimit: 64 * 1024 * 1024 }, async (request, reply) => {
      const { repository } = await enter(request);
      return reply
        .header('cache-control', 'no-store')
        .type('application/x-git-upload-pack-result')
        .send(exchange(repository, 'git-upload-pack', bodyOf(request), protocol(request)));
    });

    scope.post('/git/:project/git-receive-pack', { bodyLimit: 4 * 1024 ** 3 }, async (request, reply) => {
      const { project, caller, repository } = await enter(request);
      mayPush(project, caller);
      reply.header('cache-control', 'no-store').type('application/x-git-receive-pack-result');
      const { commands, capabilities, body } = await readHead(bodyOf(request));
      const why = refusal(commands);
      if (why) {
        body.resume();
        await records.transition('push.refused', (db) =>
          recordEvents(db, { type: 'push.refused', project: project.id, subject: project.name, actor: caller.name, data: { why } }),
        );
        return reply.send(refusePush(commands, capabilities, why));
      }
      // What is intended is recorded before a ref moves, what came of it before the answer: an answered push is never lost.
      await records.transition('push.intended', async (db) => {
        for (const command of commands) await intendPush(db, project.id, branchOf(command) as string, command.before, command.after, caller.name);
      });
      const parts: Buffer[] = [];
      for await (const chunk of exchange(repository, 'git-receive-pack', body, '')) parts.push(chunk as Buffer);
      await compareBranches(context, project, caller.name);
      return reply.send(Buffer.concat(parts));
    });

    scope.post('/api/sources/:project/events', { bodyLimit: eventLimit, config: { rateLimit: { max: 600, timeWindow: '1 minute' } } }, (request, reply) =>
      takeEvent(service, request, reply),
    );
  });
}

const branchOf = (command: PushCommand): string | null => (command.ref?.startsWith('refs/heads/') ? command.ref.slice('refs/heads/'.length) : null);

function refusal(commands: readonly PushCommand[]): string | null {
  if (commands.length === 0) return 'Tsunagi: the push moves nothing.';
  const unreadable = commands.find((command) => command.ref === null);
  if (unreadable) return 'Tsunagi: the name of a branch is not valid UTF-8. Rename it and push again.';
  const other = commands.find((command) => branchOf(command) === null);
  return other ? `Tsunagi takes branches; ${other.ref} is none. Push it elsewhere, or push a branch.` : null;
}

const bodyOf = (request: FastifyRequest): Readable => {
  const raw = request.body as Readable;
  return request.headers['content-encoding'] === 'gzip' ? raw.pipe(createGunzip()) : raw;
};

/** Reads until the commands are complete, and gives the whole body again. */
async function readHead(body: Readable): Promise<{ commands: PushCommand[]; capabilities: string[]; body: Readable }> {
  let head = Buffer.alloc(0);
  const iterator = body[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
  for (;;) {
    let parsed: ReturnType<typeof parsePush>;
    try {
      parsed = parsePush(head);
    } catch {
      throw new CodedError('body_invalid', { detail: 'the body is not a push of git.' });
    }
    if (parsed) {
      const rest = new PassThrough();
      rest.write(head);
      void Readable.from({ [Symbol.asyncIterator]: () => iterator }).pipe(rest);
      return { ...parsed, body: rest };
    }
    const next = await iterator.next();
    if (next.done || head.length > headLimit) throw new CodedError('body_invalid', { detail: 'the body is not a push of git.' });
    head = Buffer.concat([head, next.value]);
  }
}

const CloudEvent = Type.Object({
  specversion: Type.Literal('1.0'),
  id: Type.String({ minLength: 1, maxLength: 200 }),
  source: Type.String({ minLength: 1, maxLength: 300 }),
  type: Type.String({ minLength: 1, maxLength: 200 }),
  data: Type.Object({}, { additionalProperties: true }),
});
const text = (max: number) => Type.Optional(Type.String({ maxLength: max }));
const Pushed = Type.Object({ branch: text(250), commit: text(64), actor: text(100) });
const Change = Type.Object({
  number: Type.Integer({ minimum: 1, maximum: 2_147_483_647 }),
  title: text(500),
  head: text(64),
  base: text(250),
  trusted: Type.Optional(Type.Boolean()),
  actor: text(100),
});

/**
 * One signed event. A CloudEvent in structured mode; changes are CDEvents, whose `data.subject.content` and `data.customData`
 * carry what is needed. Recorded before it is answered; one seen before is answered as done and changes nothing.
 */
async function takeEvent(service: Service, request: FastifyRequest, reply: FastifyReply): Promise<unknown> {
  const { records, keys, now } = service.context;
  const name = (request.params as { project: string }).project;
  const project = await findProject(records, name);
  const body = await readAll(request.body as Readable, eventLimit);
  // The same answer for a project that is not there as for a wrong secret: neither tells a stranger which names exist.
  const verdict = project?.event_secret
    ? checkEvent(keys.decrypt(project.event_secret), body, String(request.headers['tsunagi-signature'] ?? ''), now())
    : 'wrong';
  const refuse = async (code: 'signature_wrong' | 'signature_old' | 'event_malformed' | 'event_unknown', data: Record<string, string> = {}) => {
    const error = new CodedError(code, data);
    if (project)
      await records.transition('intake.refused', (db) =>
        recordEvents(db, { type: 'intake.refused', project: project.id, subject: project.name, actor: 'stranger', data: { issue: error.issue } }),
      );
    return error;
  };
  if (!project || verdict === 'wrong') throw await refuse('signature_wrong');
  if (verdict === 'old') throw await refuse('signature_old');
  let event: { id: string; source: string; type: string; data: Record<string, unknown> };
  try {
    event = JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(body));
  } catch (error) {
    throw await refuse('event_malformed', { detail: (error as Error).message });
  }
  const flaw = firstFlaw(CloudEvent, event);
  if (flaw) throw await refuse('event_malformed', { detail: flaw });
  const known = Object.values(intakeTypes).find((type) => event.type === type || event.type.startsWith(`${type}.`));
  if (!known) throw await refuse('event_unknown', { type: event.type, types: Object.values(intakeTypes).join(', ') });
  const content = contentOf(event.data);
  const wrong =
    firstFlaw(known === intakeTypes.pushed ? Pushed : Change, content) ??
    ((known === intakeTypes.created || known === intakeTypes.updated) && !isCommitId(String(content.head)) ? 'head must be a whole commit id' : null);
  if (wrong) throw await refuse('event_malformed', { detail: wrong });
  const fresh = await records.transition('intake.recorded', (db) =>
    recordIntake(db, { project_id: project.id, event_id: event.id, source: event.source, type: known, body: content }),
  );
  reply.status(202);
  return { recorded: event.id, seenBefore: !fresh };
}

/** Our own event carries its facts in `data`; a CDEvent in `data.customData`. */
function contentOf(data: Record<string, unknown>): Record<string, unknown> {
  const custom = data.customData;
  return custom !== null && typeof custom === 'object' && !Array.isArray(custom) ? (custom as Record<string, unknown>) : data;
}

function firstFlaw(schema: Parameters<typeof Value.Errors>[0], value: unknown): string | null {
  const first = Value.Errors(schema, value).First();
  return first ? `${first.path.slice(1).replaceAll('/', '.') || 'the event'}: ${first.message}` : null;
}

async function readAll(stream: Readable, limit: number): Promise<Buffer> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const chunk of stream) {
    size += (chunk as Buffer).length;
    if (size > limit) throw new CodedError('body_too_large', { limit: `${limit / 1024} KiB` });
    parts.push(chunk as Buffer);
  }
  return Buffer.concat(parts);
}
