/** Signing in, who one is, tokens. */
import type { FastifyInstance } from 'fastify';
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../core/errors.js';
import { atLeast } from '../../core/states.js';
import { newToken, tokenHash } from '../../keys/keys.js';
import { addSession, addToken, type Caller, callerOfToken, endSession, listTokens, removeToken, type TokenRow, takeSignIn } from '../../records/people.js';
import { findProject, projectById } from '../../records/projects.js';
import { AddedToken, Me, NewToken, Page, SignIn, Token } from '../../wire/api.js';
import { change, cookieName, notFound, type Service } from '../server.js';

/** How long a session in a browser lasts. */
const sessionMs = 7 * 86_400_000;

export function peopleRoutes(app: FastifyInstance, service: Service): void {
  const { records } = service.context;
  const cookie = cookieName(service.url);
  const options = { path: '/', httpOnly: true, sameSite: 'strict' as const, secure: cookie.startsWith('__Host-') };

  app.post(
    '/api/sign-in',
    { schema: { body: SignIn, response: { 200: Me } }, config: { rateLimit: { max: 20, timeWindow: '1 minute' } } },
    async (request, reply) => {
      const { code, token } = request.body as { code?: string; token?: string };
      const origin = request.headers.origin;
      if (origin && new URL(origin).host !== request.headers.host) throw new CodedError('wrong_origin');
      const person = await findPerson(code, token);
      const session = newToken('code');
      await addSession(records, tokenHash(session), person.id, person.role, new Date(service.context.now() + sessionMs));
      reply.setCookie(cookie, session, { ...options, maxAge: sessionMs / 1000 });
      return { name: person.name, role: person.role, project: null };
    },
  );

  async function findPerson(code?: string, token?: string) {
    if (code) {
      const person = await takeSignIn(records, tokenHash(code));
      if (!person) throw new CodedError('code_wrong');
      return person;
    }
    const caller = token ? await callerOfToken(records, tokenHash(token.trim())) : null;
    const person =
      caller?.kind === 'person' && !caller.project
        ? await records.one<{ person_id: string | null }>('select person_id from tokens where id = $1', [caller.id])
        : null;
    if (!caller?.role || !person?.person_id) throw new CodedError('token_wrong');
    return { id: person.person_id, name: caller.name, role: caller.role };
  }

  app.post('/api/sign-out', async (request, reply) => {
    const session = request.cookies[cookie];
    if (session) await endSession(records, tokenHash(session));
    reply.clearCookie(cookie, options).status(204);
  });

  app.get('/api/me', { schema: { response: { 200: Me } } }, async (request) => {
    const caller = request.caller as Caller;
    return { name: caller.name, role: caller.role, project: caller.project ? (await projectById(records, caller.project)).name : null };
  });

  app.get('/api/tokens', { schema: { response: { 200: Page(Token) } } }, async () => ({ items: (await listTokens(records)).map(tokenView), next: null }));

  app.post('/api/tokens', { schema: { body: NewToken, response: { 201: AddedToken } } }, (request, reply) => {
    const body = request.body as { name: string; kind?: 'person' | 'agent' | 'edge'; role?: 'viewer'; project?: string; days?: number; expiresInMs?: number };
    const caller = request.caller as Caller;
    return change(service, request, reply, 'token.added', 201, async (db, actor) => {
      const kind = body.kind ?? 'person';
      const role = kind === 'person' ? (body.role ?? 'viewer') : null;
      if (role && caller.role && !atLeast(caller.role, role)) throw new CodedError('not_allowed', { role, yours: caller.role });
      const project = body.project ? await findProject(db, body.project) : null;
      if (body.project && !project) throw notFound('project', body.project);
      const token = newToken(kind);
      const person =
        kind === 'person'
          ? ((await db.one<{ id: string }>('select person_id as id from tokens where id = $1 union select id from people where id = $1 limit 1', [caller.id]))
              ?.id ?? null)
          : null;
      const ms = body.expiresInMs ?? (body.days ? body.days * 86_400_000 : null);
      const expires = ms === null ? null : new Date(service.context.now() + ms);
      const row = await addToken(db, { hash: tokenHash(token), kind, name: body.name, person, role, project: project?.id ?? null, expires }, actor);
      return { ...tokenView(row), token };
    });
  });

  app.delete('/api/tokens/:id', { schema: { params: Type.Object({ id: Type.String({ format: 'uuid' }) }) } }, (request, reply) =>
    change(service, request, reply, 'token.removed', 200, async (db, actor) => {
      const { id } = request.params as { id: string };
      if (!(await removeToken(db, id, actor))) throw notFound('token', id);
      return { removed: id };
    }),
  );
}

const tokenView = (row: TokenRow): Token => ({
  id: row.id,
  kind: row.kind,
  name: row.name,
  role: row.role,
  project: row.project,
  createdAt: row.created_at.toISOString(),
  expiresAt: row.expires_at?.toISOString() ?? null,
  usedAt: row.used_at?.toISOString() ?? null,
});
