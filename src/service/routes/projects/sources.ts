/** Pushes to hosted repositories over smart HTTP, and signed events of code hosts. */

import type { Keys } from '../../../keys/keys.js';
import { sealedPlace } from '../../../keys/places.js';
import type { TypeBoxTypeProvider } from '@fastify/type-provider-typebox';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { createGunzip } from 'node:zlib';
import { Type } from '@sinclair/typebox';
import { Value } from '@sinclair/typebox/value';
import type { FastifyReply, FastifyRequest } from 'fastify';
import { happenedAt } from '../../../core/advance/pulls.js';
import { CodedError, issue, wording } from '../../../core/errors/errors.js';
import { deepest, isDeeper } from '../../../core/json-depth.js';
import { sizeText } from '../../../core/sizes.js';
import { atLeast } from '../../../core/states.js';
import { openTally } from '../../../core/tally.js';
import { ensureRepository } from '../../../engine/context.js';
import { compareBranches, intakeTypes } from '../../../engine/sources/sources.js';
import { openPushHead, type PushCommand, type PushHead } from '../../../git/push-head.js';
import { advertise, exchange, isGitService, refusePush } from '../../../git/transfer.js';
import { isCommitId } from '../../../git/repository.js';
import { checkEvent, newEventSecret } from '../../../keys/webhooks.js';
import { recordEvents } from '../../../records/events.js';
import type { Caller } from '../../../records/callers/people.js';
import { findProject, type ProjectRow } from '../../../records/projects/projects.js';
import { intendPush, mayTellRefusal, recordIntake } from '../../../records/projects/sources.js';
import { type App, gitCaller, notFound, type Service } from '../../server.js';
import { whenClosed } from '../../signals.js';

/** Bytes of the head of a push in which its commands must stand. */
const headLimit = 1024 * 1024;
const eventLimit = 256 * 1024;
/** Bytes of what a fetch asks for, and of a push, inflated. */
const wantsLimit = 64 * 1024 ** 2;
const packLimit = 4 * 1024 ** 3;
/** Exchanges of git that one caller may have open. */
const exchangesAtMost = 8;
/** Refs of one push: each of them becomes a run. */
const refsAtMost = 100;

export function sourceRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    // A pack is not kept in memory: the body stays a stream.
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('*', (_request, payload, done) => done(null, payload));

    const enter = async (
      request: FastifyRequest,
    ): Promise<{ project: ProjectRow; caller: Caller; repository: string }> => {
      const name = (request.params as { project: string }).project.replace(/\.git$/, '');
      const caller = await gitCaller(service, request);
      if (!caller) throw new CodedError('sign_in_needed');
      const project = await findProject(records, name);
      if (!project || caller.kind !== 'person' || (caller.project && caller.project !== project.id))
        throw notFound('project', name);
      return { project, caller, repository: await ensureRepository(context, project) };
    };
    const mayPush = (project: ProjectRow, caller: Caller) => {
      if (project.source !== 'hosted')
        throw new CodedError('source_kind', { project: project.name, kind: 'its code host', way: 'pushes' });
      if (!caller.role || !atLeast(caller.role, 'developer'))
        throw new CodedError('push_refused', { project: project.name });
    };
    const protocol = (request: FastifyRequest) =>
      /^version=[12]$/.test(String(request.headers['git-protocol'])) ? String(request.headers['git-protocol']) : '';

    scope.get(
      '/git/:project/info/refs',
      { config: { rateLimit: { max: 600, timeWindow: '1 minute' } } },
      async (request, reply) => {
        const { project, caller, repository } = await enter(request);
        const { service: asked } = request.query as { service?: string };
        if (!isGitService(asked))
          throw new CodedError('body_invalid', { detail: 'service must be git-upload-pack or git-receive-pack.' });
        if (asked === 'git-receive-pack') mayPush(project, caller);
        return reply
          .header('cache-control', 'no-store')
          .type(`application/x-${asked}-advertisement`)
          .send(await advertise(repository, asked, protocol(request)));
      },
    );

    /** How many exchanges each caller has open. */
    const open = openTally(exchangesAtMost);
    const begin = (caller: Caller, reply: FastifyReply): void => {
      const leave = open.enter(caller.id);
      if (!leave) throw new CodedError('busy', { what: 'this token' });
      whenClosed(reply.raw, leave);
    };

    scope.post('/git/:project/git-upload-pack', { bodyLimit: wantsLimit }, async (request, reply) => {
      const { repository, caller } = await enter(request);
      begin(caller, reply);
      return reply
        .header('cache-control', 'no-store')
        .type('application/x-git-upload-pack-result')
        .send(exchange(repository, 'git-upload-pack', bodyOf(request, wantsLimit), protocol(request)));
    });

    scope.post('/git/:project/git-receive-pack', { bodyLimit: packLimit }, async (request, reply) => {
      const { project, caller, repository } = await enter(request);
      mayPush(project, caller);
      begin(caller, reply);
      reply.header('cache-control', 'no-store').type('application/x-git-receive-pack-result');
      const { commands, capabilities, body } = await readHead(bodyOf(request, packLimit));
      const why = refusal(commands, project);
      if (why) {
        body.resume();
        await records.transition('push.refused', (db) =>
          recordEvents(db, {
            type: 'push.refused',
            project: project.id,
            subject: project.name,
            actor: caller.name,
            data: { why },
          }),
        );
        return reply.send(refusePush(commands, capabilities, why));
      }
      // What is intended is recorded before a ref moves, what came of it before the answer: an answered push is never lost.
      await records.transition('push.intended', async (db) => {
        for (const command of commands)
          await intendPush(db, project.id, branchOf(command) as string, command.before, command.after, caller.name);
      });
      const parts: Buffer[] = [];
      try {
        for await (const chunk of exchange(repository, 'git-receive-pack', body, '', keepsHistory(commands, project)))
          parts.push(chunk as Buffer);
      } finally {
        // Whatever became of the answer: a ref that has moved is recorded.
        await compareBranches(context, project, caller.name);
      }
      return reply.send(Buffer.concat(parts));
    });

    scope.post(
      '/api/sources/:project/events',
      { bodyLimit: eventLimit, config: { rateLimit: { max: 600, timeWindow: '1 minute' } } },
      (request, reply) => takeEvent(service, request, reply),
    );
  });
}

/** Git itself refuses to rewrite main of a protected project, and with it the other branches of that push. */
const keepsHistory = (commands: readonly PushCommand[], { protect, main_branch }: ProjectRow): [string, string][] =>
  protect && commands.some((one) => branchOf(one) === main_branch) ? [['receive.denyNonFastForwards', 'true']] : [];

const branchOf = (command: PushCommand): string | null =>
  command.ref?.startsWith('refs/heads/') ? command.ref.slice('refs/heads/'.length) : null;

function refusal(commands: readonly PushCommand[], { name, protect, main_branch }: ProjectRow): string | null {
  if (commands.length === 0) return 'Tsunagi: the push moves nothing.';
  if (commands.length > refsAtMost) return `Tsunagi: ${wording(issue('push_too_many', { limit: refsAtMost })).says}`;
  const unreadable = commands.find((command) => command.ref === null);
  if (unreadable) return 'Tsunagi: the name of a branch is not valid UTF-8. Rename it and push again.';
  const other = commands.find((command) => branchOf(command) === null);
  if (other) return `Tsunagi accepts branches only, and ${other.ref} is not a branch. Push it elsewhere.`;
  if (protect && commands.some((command) => branchOf(command) === main_branch && command.after === null))
    return `Tsunagi: ${main_branch} is protected, so a push cannot delete it. An owner can allow that: tsunagi project protect ${name} --off`;
  return null;
}

/** The body, inflated where it came compressed, up to `limit` bytes. A client that goes away ends it with an error. */
function bodyOf(request: FastifyRequest, limit: number): Readable {
  let size = 0;
  const bounded = new Transform({
    transform(chunk: Buffer, _encoding, done) {
      size += chunk.length;
      done(size > limit ? new CodedError('body_too_large', { limit: sizeText(limit) }) : null, chunk);
    },
  });
  const raw = request.body as Readable;
  const steps = request.headers['content-encoding'] === 'gzip' ? [raw, createGunzip(), bounded] : [raw, bounded];
  // Whoever reads `bounded` hears of the failure.
  pipeline(steps as [Readable, Transform]).catch(() => {});
  return bounded;
}

/** Reads until the commands are complete, and gives the whole body again. */
async function readHead(body: Readable): Promise<PushHead & { body: Readable }> {
  const reader = openPushHead();
  const iterator = body[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
  const seen: Buffer[] = [];
  for (let size = 0; ; ) {
    const next = await iterator.next();
    if (next.done || size > headLimit)
      throw new CodedError('body_invalid', { detail: 'the body is not a push of git.' });
    seen.push(next.value);
    size += next.value.length;
    let head: PushHead | null;
    try {
      head = reader.push(next.value);
    } catch {
      throw new CodedError('body_invalid', { detail: 'the body is not a push of git.' });
    }
    if (!head) continue;
    const whole = async function* () {
      yield* seen.splice(0);
      yield* { [Symbol.asyncIterator]: () => iterator };
    };
    return { ...head, body: Readable.from(whole()) };
  }
}

const CloudEvent = Type.Object({
  specversion: Type.Literal('1.0'),
  id: Type.String({ minLength: 1, maxLength: 200 }),
  source: Type.String({ minLength: 1, maxLength: 300 }),
  type: Type.String({ minLength: 1, maxLength: 200 }),
  time: Type.Optional(Type.String({ maxLength: 60 })),
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
  draft: Type.Optional(Type.Boolean()),
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
  // The same answer, after the same work, for a project that is not there as for a wrong secret: neither tells a stranger which names exist.
  const sealed = project?.event_secret ?? nobodysSecret(keys);
  const secret = keys.decrypt(sealed, sealedPlace('projects.event_secret', project?.event_secret ? project.id : ''));
  const right = checkEvent(secret, request.headers, body, now());
  const verdict = project?.event_secret ? right : 'wrong';
  const refuse = (
    code: 'signature_wrong' | 'signature_old' | 'event_malformed' | 'event_unknown',
    data: Record<string, string> = {},
  ) => {
    const error = new CodedError(code, data);
    // After the answer; what nobody has signed once an hour at most, since whoever likes may send it.
    const bounded = code === 'signature_wrong' || code === 'signature_old';
    if (project)
      setImmediate(() => {
        records
          .transition('intake.refused', async (db) => {
            if (!bounded || (await mayTellRefusal(db, project.id)))
              await recordEvents(db, {
                type: 'intake.refused',
                project: project.id,
                subject: project.name,
                actor: 'stranger',
                data: { issue: error.issue },
              });
          })
          .catch((failure: Error) =>
            service.context.log.warn({ error: String(failure) }, 'a refusal was not recorded'),
          );
      });
    return error;
  };
  if (!project || verdict === 'wrong') throw refuse('signature_wrong');
  if (verdict === 'old') throw refuse('signature_old');
  let event: { id: string; source: string; type: string; time?: string; data: Record<string, unknown> };
  try {
    const text = new TextDecoder('utf-8', { fatal: true }).decode(body);
    if (isDeeper(text)) throw new Error(`it nests more than ${deepest} deep`);
    event = JSON.parse(text);
  } catch (error) {
    throw refuse('event_malformed', { detail: (error as Error).message });
  }
  const flaw = firstFlaw(CloudEvent, event);
  if (flaw) throw refuse('event_malformed', { detail: flaw });
  const known = Object.values(intakeTypes).find((type) => event.type === type || event.type.startsWith(`${type}.`));
  if (!known) throw refuse('event_unknown', { type: event.type, types: Object.values(intakeTypes).join(', ') });
  const content = contentOf(event.data);
  const wrong =
    firstFlaw(known === intakeTypes.pushed ? Pushed : Change, content) ??
    ((known === intakeTypes.created || content.head !== undefined) && !isCommitId(String(content.head))
      ? 'head must be a whole commit id'
      : null);
  if (wrong) throw refuse('event_malformed', { detail: wrong });
  const fresh = await records.transition('intake.recorded', (db) =>
    recordIntake(db, {
      project_id: project.id,
      event_id: event.id,
      source: event.source,
      type: known,
      body: content,
      told_at: new Date(happenedAt(timeOf(event), now())),
    }),
  );
  reply.status(202);
  return { recorded: event.id, seenBefore: !fresh };
}

let sealedForNobody: Buffer | null = null;
const nobodysSecret = (keys: Pick<Keys, 'encrypt'>): Buffer =>
  (sealedForNobody ??= keys.encrypt(newEventSecret(), sealedPlace('projects.event_secret', '')));

/** When it happened: as the CloudEvent says, else as the CDEvent in it does. */
function timeOf({ time, data }: { time?: string; data: Record<string, unknown> }): unknown {
  const { context } = data;
  return (
    time ?? (context !== null && typeof context === 'object' ? (context as { timestamp?: unknown }).timestamp : null)
  );
}

/** Our own event carries its facts in `data`; a CDEvent in `data.customData`. */
function contentOf(data: Record<string, unknown>): Record<string, unknown> {
  const custom = data.customData;
  return custom !== null && typeof custom === 'object' && !Array.isArray(custom)
    ? (custom as Record<string, unknown>)
    : data;
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
