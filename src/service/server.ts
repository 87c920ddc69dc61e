/** What the routes work with, and the parts every request passes: who calls, what may be called, how errors are answered. */
import { sealedPlace } from '../keys/places.js';
import { findRun, type RunRow } from '../records/runs/runs.js';
import { randomUUID } from 'node:crypto';
import { statfsSync } from 'node:fs';
import type { TypeBoxTypeProvider } from '@fastify/type-provider-typebox';
import type {
  FastifyBaseLogger,
  FastifyInstance,
  FastifyReply,
  FastifyRequest,
  RawReplyDefaultExpression,
  RawRequestDefaultExpression,
  RawServerDefault,
} from 'fastify';
import { CodedError, type ErrorCode, registry, wording } from '../core/errors/errors.js';
import { hintToFind } from '../core/errors/lists.js';
import { atLeast, type Role } from '../core/states.js';
import type { Context } from '../engine/context.js';
import { tokenHash } from '../keys/keys.js';
import { type AgentRow, agentOfToken } from '../records/callers/agents.js';
import type { Db } from '../records/database.js';
import {
  type Caller,
  callerOfSession,
  callerOfToken,
  beginAnswer,
  earlierAnswer,
  keepAnswer,
} from '../records/callers/people.js';
import { type EnvironmentRow, findEnvironment } from '../records/deployments/environments.js';
import { findProject, type ProjectRow } from '../records/projects/projects.js';
import type { Problem } from '../wire/parts.js';
import type { Stream } from '../wire/rooms/stream.js';
import { type Access, access, boundMay } from './access.js';
import type { Hub } from './hub.js';
import type { Known } from './known.js';
import { openMethods } from './reference.js';

/** Where the two streams of a terminal meet. */
export interface Doors {
  /** The person's stream; resolves when it is over. */
  /** `role`: what its person must have for as long as it lasts. */
  arrive(id: string, stream: Stream, request: FastifyRequest, role: Role): Promise<void>;
  /** The agent's stream, with what makes it open in the records. */
  join(id: string, stream: Stream, open: () => Promise<boolean>): Promise<void>;
}

export interface Service {
  context: Context;
  hub: Hub;
  /** Ends with the service; long requests listen to it. */
  closing: AbortSignal;
  /** Address of the console and API, for links. */
  url: string;
  /** Who calls, by the hash of token or session; and the agents of tokens. */
  callers: Known<Caller>;
  agents: Known<AgentRow>;
  /** Where the streams of terminals meet. */
  doors: Doors;
}

declare module 'fastify' {
  interface FastifyRequest {
    caller: Caller | null;
  }
}

export const cookieName = (url: string): string => (url.startsWith('https:') ? '__Host-tsunagi' : 'tsunagi');

/** Finds out who calls and refuses who may not. A caller that is bound to one project meets nothing of the others. */
/** The application whose routes know their types from their schemas. */
export type App = FastifyInstance<
  RawServerDefault,
  RawRequestDefaultExpression,
  RawReplyDefaultExpression,
  FastifyBaseLogger,
  TypeBoxTypeProvider
>;

export function guard(app: FastifyInstance, service: Service): void {
  const known = new Set<string>();
  app.decorateRequest('caller', null);
  app.addHook('onRoute', (route) => {
    for (const method of [route.method].flat()) {
      if (
        method === 'HEAD' ||
        method === 'OPTIONS' ||
        !/^\/((api|git|schema|badge|picture)\/|metrics$)/.test(route.url)
      )
        continue;
      const key = `${method} ${route.url}`;
      if (!access[key]) throw new Error(`no row of access for ${key}`);
      known.add(key);
    }
  });
  app.addHook('onReady', async () => {
    for (const key of Object.keys(access))
      if (!known.has(key)) throw new Error(`no route for the row of access ${key}`);
  });
  app.addHook('onRequest', async (request) => {
    const method = request.method === 'HEAD' ? 'GET' : request.method;
    const route = `${method} ${request.routeOptions.url}`;
    const needed = access[route];
    if (needed === undefined || needed === 'anyone' || needed === 'signature' || needed === 'git') return;
    const caller = await findCaller(service, request);
    if (!caller) throw new CodedError(request.headers.authorization ? 'token_wrong' : 'sign_in_needed');
    requireAccess(caller, needed);
    const project = (request.params as { project?: string }).project;
    if (caller.project && project !== undefined) {
      const row = await findProject(service.context.records, project);
      if (row?.id !== caller.project) throw notFound('project', project);
    } else if (caller.project && !boundMay.has(route)) throw new CodedError('token_bound');
    request.caller = caller;
  });
}

/** Whether who asked may still do so: the token or session is still good, and its role still enough, for the route and for `more`. */
export async function mayStill(service: Service, request: FastifyRequest, more: Role | null = null): Promise<boolean> {
  const before = request.caller;
  const now = await findCaller(service, request);
  if (!before || !now || now.id !== before.id || now.project !== before.project) return false;
  const needed = access[`GET ${request.routeOptions.url}`];
  try {
    if (needed) requireAccess(now, needed);
    if (more) requireAccess(now, more);
    return true;
  } catch {
    return false;
  }
}

/** Who has one long computation at a time. */
export const callerKey = (request: FastifyRequest): string => `caller ${request.caller?.id ?? request.ip}`;

/** A browser opens a stream for whatever page asks, with its cookie: that must be one of ours. */
export function ourOrigin(request: FastifyRequest): void {
  const { origin, host, authorization } = request.headers;
  if (authorization === undefined && (origin === undefined || hostOf(origin) !== host))
    throw new CodedError('wrong_origin');
}

/** The host of an origin; null for `null` and whatever else is none. */
export function hostOf(origin: string): string | null {
  try {
    return new URL(origin).host;
  } catch {
    return null;
  }
}

export function requireAccess(caller: Caller, needed: Access): void {
  const fits =
    needed === 'agent' || needed === 'edge'
      ? caller.kind === needed
      : caller.kind === 'person' && caller.role !== null && atLeast(caller.role, needed as Role);
  if (!fits)
    throw new CodedError('not_allowed', {
      role: needed,
      yours: caller.kind === 'person' ? caller.role : `an ${caller.kind}`,
    });
}

async function findCaller(service: Service, request: FastifyRequest): Promise<Caller | null> {
  const { records } = service.context;
  const header = request.headers.authorization;
  if (header?.startsWith('Bearer ')) {
    const hash = tokenHash(header.slice('Bearer '.length).trim());
    return service.callers.get(hash.toString('hex'), () => callerOfToken(records, hash));
  }
  if (header) return null;
  const cookie = request.cookies[cookieName(service.url)];
  if (!cookie) return null;
  // A browser sends its cookie along with what other sites ask for: a change must come from our own pages.
  if (request.method !== 'GET' && request.method !== 'HEAD') {
    const { origin, host } = request.headers;
    const site = request.headers['sec-fetch-site'];
    const ours = origin ? hostOf(origin) === host : site === 'same-origin';
    if (!ours) throw new CodedError('wrong_origin');
  }
  const hash = tokenHash(cookie);
  return service.callers.get(`session ${hash.toString('hex')}`, () => callerOfSession(records, hash));
}

/** The token of git's basic authentication: the password, with any user name. */
export async function gitCaller(service: Service, request: FastifyRequest): Promise<Caller | null> {
  const header = request.headers.authorization ?? '';
  if (!header.startsWith('Basic ')) return null;
  const text = Buffer.from(header.slice('Basic '.length), 'base64').toString('utf8');
  return callerOfToken(service.context.records, tokenHash(text.slice(text.indexOf(':') + 1)));
}

export const notFound = (what: string, name: string): CodedError =>
  new CodedError('not_found', {
    what: `The ${what} ${name.slice(0, 100)}`,
    hint: hintToFind(what),
  });

export async function needProject(service: Service, request: FastifyRequest): Promise<ProjectRow> {
  const { project } = request.params as { project: string };
  const row = await findProject(service.context.records, project);
  if (!row) throw notFound('project', project);
  return row;
}

/** The environment of a path: `…/projects/PROJECT/environments/NAME`. */
export async function needEnvironment(
  service: Service,
  request: FastifyRequest,
): Promise<{ project: ProjectRow; environment: EnvironmentRow }> {
  const project = await needProject(service, request);
  const { name } = request.params as { name: string };
  const environment = await findEnvironment(service.context.records, project.id, name);
  if (!environment)
    throw new CodedError('not_found', {
      what: `The environment ${project.name}/${name.slice(0, 60)}`,
      hint: 'It is made when the main branch declares it; `tsunagi board` shows what there is.',
    });
  return { project, environment };
}

export async function needRun(
  service: Service,
  request: FastifyRequest,
): Promise<{ project: ProjectRow; run: RunRow }> {
  const project = await needProject(service, request);
  const { number } = request.params as { number: number };
  const run = await findRun(service.context.records, project.id, number);
  if (!run) throw notFound('run', String(number));
  return { project, run };
}

/** Changes after which somebody may have other rights. */
const rights = /^(?:person|token|session|project|key)\./;

/**
 * Makes a change once: its effect and its answer are one transaction under the caller's Idempotency-Key, and a repeat of the
 * request gets the same answer. The key is required, so that a client which lost an answer can always ask again. `first` is what is
 * looked at or tried outside of the transaction; a repeat does without it.
 */
export async function change<T>(
  service: Service,
  request: FastifyRequest,
  reply: FastifyReply,
  name: string,
  status: number,
  work: (db: Db, actor: string) => Promise<T>,
  first: (() => Promise<void>) | null = null,
): Promise<T> {
  const key = request.headers['idempotency-key'];
  if (typeof key !== 'string' || key.length < 8 || key.length > 200) throw new CodedError('key_missing');
  const caller = request.caller as Caller;
  const actor = `${caller.kind}:${caller.id}`;
  // Keyed: a body may hold a secret that could be guessed from a plain hash.
  const hash = Buffer.from(
    service.context.keys.hash(`${request.method} ${request.url}\n${JSON.stringify(request.body ?? null)}`),
    'hex',
  );
  const replay = async (): Promise<T | undefined> => {
    const earlier = await earlierAnswer(service.context.records, actor, key);
    if (!earlier) return undefined;
    if (!earlier.request.equals(hash)) throw new CodedError('key_reused');
    reply.status(earlier.status);
    return earlier.sealed
      ? (JSON.parse(service.context.keys.decrypt(earlier.sealed, sealedPlace('answers', actor, key))) as T)
      : (null as T);
  };
  if (first !== null) {
    const earlier = await replay();
    if (earlier !== undefined) return earlier;
    await first();
  }
  const done = await service.context.records.transition(name, async (db) => {
    // The answer's row first: it makes a second request with this key wait here until the first is through.
    if (!(await beginAnswer(db, actor, key, hash, status))) return null;
    const body = await work(db, caller.name);
    // It may hold what is shown once.
    await keepAnswer(
      db,
      actor,
      key,
      service.context.keys.encrypt(JSON.stringify(body ?? null), sealedPlace('answers', actor, key)),
    );
    return { body };
  });
  // Whoever has just lost a right has lost it for the next request; other services hear of it.
  if (rights.test(name)) service.callers.clear();
  if (!done) return (await replay()) as T;
  reply.status(status);
  return done.body;
}

/** Errors as RFC 9457 problem details with a stable `code`. */
export function answerErrors(app: FastifyInstance, service: Service): void {
  app.setErrorHandler(
    (
      error: Error & { statusCode?: number; validation?: { instancePath: string; message?: string }[]; code?: string },
      request,
      reply,
    ) => {
      const coded = asCoded(error, service, request);
      if (reply.raw.headersSent) return reply.raw.destroy();
      if (coded.issue.code === 'sign_in_needed' && request.url.startsWith('/git/'))
        reply.header('www-authenticate', 'Basic realm="Tsunagi"');
      return reply.status(coded.status).type('application/problem+json').send(problemOf(coded));
    },
  );
  const methods = openMethods();
  app.addHook('onRoute', (route) => {
    if (route.url !== '/*') for (const method of [route.method].flat()) methods.add(method, route.url);
  });
  app.setNotFoundHandler((request, reply) => {
    const [path = ''] = request.url.split('?');
    const allowed = methods.of(path);
    if (allowed.length && !allowed.includes(request.method)) {
      reply.header('allow', allowed.join(', '));
      throw new CodedError('method_wrong', {
        path: path.slice(0, 200),
        method: request.method,
        allowed: allowed.join(', '),
      });
    }
    throw new CodedError('not_found', {
      what: `${request.method} ${request.url.slice(0, 200)}`,
      hint: 'See /api/openapi.json for what there is.',
    });
  });
}

export function problemOf(error: CodedError): Problem {
  const { says, next } = wording(error.issue);
  const { status, retry } = registry[error.issue.code];
  return {
    type: `urn:tsunagi:error:${error.issue.code}`,
    title: says,
    status,
    detail: says,
    code: error.issue.code,
    next,
    retry,
    data: error.issue.data,
  };
}

/** Bytes with which a database can still write. */
const leastFree = 32 * 1024 ** 2;

/** Whether the disk of this service is full: with `serve` its database is on the same one. */
function isFull({ context }: Service): boolean {
  try {
    const { bavail, bsize } = statfsSync(context.repositories);
    return bavail * bsize < leastFree;
  } catch {
    return false;
  }
}

function asCoded(
  error: Error & { statusCode?: number; validation?: { instancePath: string; message?: string }[]; code?: string },
  service: Service,
  request: FastifyRequest,
): CodedError {
  if (error instanceof CodedError) return error;
  if (error.validation)
    return new CodedError('body_invalid', {
      detail: error.validation
        .map((one) => `${one.instancePath.slice(1) || 'it'} ${one.message ?? 'is wrong'}`)
        .join('; '),
    });
  // The client has gone in the middle of its body: nobody hears the answer, and nothing is wrong here.
  if (request.raw.destroyed && !request.raw.complete)
    return new CodedError('body_invalid', { detail: 'it broke off.' });
  if (error.code === 'FST_ERR_CTP_BODY_TOO_LARGE')
    return new CodedError('body_too_large', {
      limit: `${Math.round((request.routeOptions.bodyLimit ?? 0) / 1024)} KiB`,
    });
  if (error.statusCode === 429) return new CodedError('too_many_requests', { seconds: 60 });
  if (error.statusCode === 415)
    return new CodedError('type_wrong', { type: (request.headers['content-type'] ?? 'none').slice(0, 100) });
  const reasons: Record<number, ErrorCode> = { 400: 'body_invalid', 404: 'not_found' };
  const code = reasons[error.statusCode ?? 500];
  if (code) return new CodedError(code, { detail: error.message, what: 'This', hint: '' });
  const reference = randomUUID().slice(0, 8);
  service.context.log.error({ reference, url: request.url, error: String(error.stack ?? error) }, 'a request failed');
  const away = /ECONNREFUSED|terminating connection|SequelizeConnection/.test(String(error));
  // PostgreSQL says it of a statement (SQLSTATE 53100), and ends where it cannot even say that.
  const full = (error as { parent?: { code?: string } }).parent?.code === '53100' || (away && isFull(service));
  if (full)
    return new CodedError('unavailable', { detail: 'its disk is full, so its database does not answer.' }, error);
  return away
    ? new CodedError('unavailable', { detail: 'its database does not answer.' }, error)
    : new CodedError('internal', { reference }, error);
}

/** Id of the token that a request brings. */
export const tokenOf = (request: FastifyRequest): string => (request.caller as Caller).id;

/** The agent that asks. Throws `lease_lost` where it has to register first. */
export async function needAgent(service: Service, request: FastifyRequest): Promise<AgentRow> {
  const token = tokenOf(request);
  const agent = await service.agents.get(token, () => agentOfToken(service.context.records, token));
  if (!agent) throw new CodedError('lease_lost', { agent: 'with this token' });
  return agent;
}
