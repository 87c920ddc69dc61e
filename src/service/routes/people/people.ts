/** Signing in, who one is, tokens. */
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../../core/errors/errors.js';
import { atLeast } from '../../../core/states.js';
import { newToken, tokenHash } from '../../../keys/keys.js';
import {
  addSession,
  addToken,
  type AgentGrant,
  type Caller,
  callerOfToken,
  endSession,
  endSessionOf,
  listSessions,
  listTokens,
  personOf,
  removeToken,
  type TokenRow,
  takeSignIn,
  personOfToken,
} from '../../../records/callers/people.js';
import { findProject, projectById } from '../../../records/projects/projects.js';
import { AddedToken, Me, NewToken, type NewTokenBody, Session, SignIn, Token } from '../../../wire/people.js';
import { Page } from '../../../wire/parts.js';
import { type App, change, cookieName, hostOf, notFound, type Service } from '../../server.js';

/** How long a session in a browser lasts. */
const sessionMs = 7 * 86_400_000;

export function peopleRoutes(app: App, service: Service): void {
  const { records } = service.context;
  const cookie = cookieName(service.url);
  const options = { path: '/', httpOnly: true, sameSite: 'strict' as const, secure: cookie.startsWith('__Host-') };

  app.post(
    '/api/sign-in',
    { schema: { body: SignIn, response: { 200: Me } }, config: { rateLimit: { max: 20, timeWindow: '1 minute' } } },
    async (request, reply) => {
      const { code, token } = request.body;
      const { origin } = request.headers;
      if (origin && hostOf(origin) !== request.headers.host) throw new CodedError('wrong_origin');
      const person = await findPerson(code, token);
      const session = newToken('code');
      await addSession(records, {
        hash: tokenHash(session),
        person: person.id,
        token: person.token,
        client: String(request.headers['user-agent'] ?? ''),
        expires: new Date(service.context.now() + sessionMs),
      });
      reply.setCookie(cookie, session, { ...options, maxAge: sessionMs / 1000 });
      return { name: person.name, role: person.role, project: null };
    },
  );

  async function findPerson(code?: string, token?: string) {
    if (code) {
      const person = await takeSignIn(records, tokenHash(code));
      if (!person) throw new CodedError('code_wrong');
      return { ...person, token: null };
    }
    const caller = token ? await callerOfToken(records, tokenHash(token.trim())) : null;
    const person = caller?.kind === 'person' && !caller.project ? await personOfToken(records, caller.id) : null;
    if (!caller?.role || person === null) throw new CodedError('token_wrong');
    return { id: person, name: caller.name, role: caller.role, token: caller.id };
  }

  app.post('/api/sign-out', async (request, reply) => {
    const session = request.cookies[cookie];
    if (session) await endSession(records, tokenHash(session));
    reply.clearCookie(cookie, options).status(204);
  });

  app.get('/api/me', { schema: { response: { 200: Me } } }, async (request) => {
    const caller = request.caller as Caller;
    if (!caller.role) throw new CodedError('sign_in_needed');
    return {
      name: caller.name,
      role: caller.role,
      project: caller.project ? (await projectById(records, caller.project)).name : null,
    };
  });

  /** Owners see everybody's, all others their own. */
  const ofWhom = async (caller: Caller): Promise<string | null> => {
    if (caller.role === 'owner') return null;
    const person = await personOf(records, caller);
    if (!person) throw notFound('session', 'of this token');
    return person;
  };
  app.get('/api/sessions', { schema: { response: { 200: Page(Session) } } }, async (request) => {
    const caller = request.caller as Caller & { session?: string };
    const rows = await listSessions(records, await ofWhom(caller));
    return {
      items: rows.map((row) => ({
        id: row.id,
        person: row.person,
        client: row.client,
        begunAt: row.created_at.toISOString(),
        seenAt: row.seen_at.toISOString(),
        expiresAt: row.expires_at.toISOString(),
        own: row.id === caller.session,
      })),
      next: null,
    };
  });
  app.delete(
    '/api/sessions/:id',
    { schema: { params: Type.Object({ id: Type.String({ format: 'uuid' }) }) } },
    (request, reply) =>
      change(service, request, reply, 'session.ended', 200, async (db, actor) => {
        const { id } = request.params;
        if (!(await endSessionOf(db, id, await ofWhom(request.caller as Caller), actor))) throw notFound('session', id);
        return { ended: id };
      }),
  );

  app.get('/api/tokens', { schema: { response: { 200: Page(Token) } } }, async () => ({
    items: (await listTokens(records)).map(tokenView),
    next: null,
  }));

  app.post('/api/tokens', { schema: { body: NewToken, response: { 201: AddedToken } } }, (request, reply) => {
    const body = request.body;
    const caller = request.caller as Caller;
    return change(service, request, reply, 'token.added', 201, async (db, actor) => {
      const kind = body.kind ?? 'person';
      const role = kind === 'person' ? (body.role ?? 'viewer') : null;
      if (role && caller.role && !atLeast(caller.role, role))
        throw new CodedError('not_allowed', { role, yours: caller.role });
      // A token that makes others would outlive its own end.
      if (caller.role !== 'owner' && (kind !== 'person' || !(caller as Caller & { session?: string }).session))
        throw new CodedError('not_allowed', { role: 'owner', yours: caller.role });
      const project = body.project ? await findProject(db, body.project) : null;
      if (body.project && !project) throw notFound('project', body.project);
      const token = newToken(kind);
      const person = kind === 'person' ? await personOf(db, caller) : null;
      const grant = kind === 'agent' ? grantFrom(body) : null;
      if (kind !== 'agent' && (body.takes || body.address || body.ports))
        throw new CodedError('body_invalid', { detail: 'takes, address and ports are of agents alone.' });
      if (kind !== 'person' && !/^[a-z][a-z0-9-]{0,39}$/.test(body.name))
        throw new CodedError('name_unusable', { name: body.name });
      const ms = body.expiresInMs ?? (body.days ? body.days * 86_400_000 : null);
      const expires = ms === null ? null : new Date(service.context.now() + ms);
      const row = await addToken(
        db,
        { hash: tokenHash(token), kind, name: body.name, person, role, project: project?.id ?? null, expires, grant },
        actor,
      );
      return { ...tokenView(row), token };
    });
  });

  app.delete(
    '/api/tokens/:id',
    { schema: { params: Type.Object({ id: Type.String({ format: 'uuid' }) }) } },
    (request, reply) =>
      change(service, request, reply, 'token.removed', 200, async (db, actor) => {
        const { id } = request.params;
        if (!(await removeToken(db, id, actor))) throw notFound('token', id);
        return { removed: id };
      }),
  );
}

/** What an agent's token allows: not what is live, unless an owner says so. */
function grantFrom({ takes, address, ports }: NewTokenBody): AgentGrant {
  const range = ports ?? { from: 20_000, to: 31_999 };
  if (range.from > range.to) throw new CodedError('body_invalid', { detail: 'ports.from lies above ports.to.' });
  return { takes: takes ?? ['runs', 'untrusted'], address: address ?? '127.0.0.1', ports: range };
}

const tokenView = (row: TokenRow): Token => ({
  id: row.id,
  kind: row.kind,
  name: row.name,
  role: row.role,
  project: row.project,
  person: row.person,
  createdAt: row.created_at.toISOString(),
  expiresAt: row.expires_at?.toISOString() ?? null,
  usedAt: row.used_at?.toISOString() ?? null,
  takes: row.takes,
  address: row.address,
  ports: row.port_from === null || row.port_to === null ? null : { from: row.port_from, to: row.port_to },
});
