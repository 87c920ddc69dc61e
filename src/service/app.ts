/** The service's HTTP face: API, git, intake, and the console's files. */
import { ping } from '../records/database.js';
import { existsSync } from 'node:fs';
import cookie from '@fastify/cookie';
import rateLimit from '@fastify/rate-limit';
import files from '@fastify/static';
import swagger from '@fastify/swagger';
import websocket from '@fastify/websocket';
import Fastify, { type FastifyInstance } from 'fastify';
import { definitionSchema } from '../core/definition/schema.js';
import { logRoutes } from './routes/runs/logs.js';
import { peopleRoutes } from './routes/people/people.js';
import { figureRoutes } from './routes/environments/figures.js';
import { findRoutes } from './routes/find.js';
import { projectRoutes } from './routes/projects/projects.js';
import { costRoutes } from './routes/environments/cost.js';
import { terminalRoutes } from './routes/environments/terminals.js';
import { jobRoutes } from './routes/environments/jobs.js';
import { pictureRoutes } from './routes/environments/pictures.js';
import { reviewRoutes } from './routes/environments/reviews.js';
import { destinationRoutes } from './routes/people/destinations.js';
import { alertRoutes } from './routes/people/alerts.js';
import { addressRoutes } from './routes/environments/addresses.js';
import { resourceRoutes } from './routes/environments/resources.js';
import { forwardRoutes } from './routes/runs/forward.js';
import { runRoutes } from './routes/runs/runs.js';
import { releaseRoutes } from './routes/projects/releases.js';
import { environmentRoutes } from './routes/environments/environments.js';
import { compareRoutes } from './routes/projects/compare.js';
import { cutoverRoutes } from './routes/environments/cutover.js';
import { deliveryRoutes } from './routes/delivery.js';
import { togetherRoutes } from './routes/environments/together.js';
import { ruleRoutes } from './routes/environments/rules.js';
import { feedRoutes } from './routes/feed.js';
import { sourceRoutes } from './routes/projects/sources.js';
import { ownerRoutes } from './routes/people/owners.js';
import { keyRoutes } from './routes/people/keys.js';
import { badgeRoutes } from './routes/projects/badge.js';
import { guideRoutes } from './routes/projects/guide.js';
import { variableRoutes } from './routes/environments/variables.js';
import { whyRoutes } from './routes/runs/why.js';
import { edgeRoutes } from './routes/rooms/edges.js';
import { terminalWorkRoutes } from './routes/rooms/terminals.js';
import { messageBytes } from '../core/streams.js';
import { deepest, isDeeper } from '../core/json-depth.js';
import { CodedError } from '../core/errors/errors.js';
import { version } from '../core/version.js';
import { type Pace, watchBody } from './pace.js';
import { workRoutes } from './routes/rooms/work.js';
import { compilersFactory } from './schemas.js';
import { pageLists } from './lists.js';
import { describeRoute } from './reference.js';
import { answerErrors, guard, problemOf, type Service } from './server.js';

const security =
  "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

export interface AppOptions {
  /** Folder of the console's files. */
  console: string;
  /** Addresses and ranges of proxies whose word on who asks is taken. */
  trustedProxies: string[];
  /** How fast a body must come; default 1 kB in 30 s. */
  pace?: Pace;
}

export async function makeApp(
  service: Service,
  { console, trustedProxies, pace }: AppOptions,
): Promise<FastifyInstance> {
  const app = Fastify({
    bodyLimit: 256 * 1024,
    trustProxy: trustedProxies.length ? trustedProxies : false,
    forceCloseConnections: true,
    // A head that does not come. Bodies may be large and have no limit of time, but one of pace.
    http: { headersTimeout: 20_000, requestTimeout: 0, connectionsCheckingInterval: 5_000 },
    ajv: { customOptions: { removeAdditional: false, coerceTypes: 'array', allowUnionTypes: true } },
    schemaController: { compilersFactory: compilersFactory as never },
    // A path that is not valid (RFC 3986, 2.1) never reaches a route.
    frameworkErrors: (error, _request, reply) => {
      const problem = problemOf(new CodedError('body_invalid', { detail: error.message }));
      void reply.raw
        .writeHead(problem.status, { 'content-type': 'application/problem+json' })
        .end(JSON.stringify(problem));
    },
  });
  await app.register(swagger, {
    openapi: {
      openapi: '3.1.0',
      info: {
        title: 'Tsunagi',
        version,
        description:
          'From a pushed commit to production. Errors are problem details (RFC 9457) with a stable code. Every change takes an Idempotency-Key. Lists have limit and cursor.',
      },
      servers: [{ url: service.url }],
      components: { securitySchemes: { token: { type: 'http', scheme: 'bearer' } } },
      security: [{ token: [] }],
    },
    transform: describeRoute as never,
  });
  await app.register(cookie);
  // Terminals alone; nothing is packed, so that no message is longer than it is.
  await app.register(websocket, { options: { maxPayload: messageBytes + 1, perMessageDeflate: false } });
  await app.register(rateLimit, { global: false, keyGenerator: (request) => request.ip });
  const parse = app.getDefaultJsonParser('error', 'error');
  app.addContentTypeParser('application/json', { parseAs: 'string' }, (request, body, done) => {
    // Lists in lists without end would take every reader's stack.
    if (isDeeper(String(body)))
      return done(new CodedError('body_invalid', { detail: `it nests more than ${deepest} deep` }), undefined);
    parse(request, String(body), done);
  });
  app.addHook('onRequest', async (request) => watchBody(request.raw, pace));
  pageLists(app);
  answerErrors(app, service);
  guard(app, service);
  app.addHook('onSend', async (request, reply) => {
    reply.header('x-content-type-options', 'nosniff').header('referrer-policy', 'same-origin');
    if (!request.url.startsWith('/api/') && !reply.hasHeader('content-security-policy'))
      reply.header('content-security-policy', security);
    if (request.url.startsWith('/api/') && !reply.hasHeader('cache-control')) reply.header('cache-control', 'no-store');
  });

  app.get('/api/health', async () => {
    await ping(service.context.records);
    return { ok: true };
  });
  app.get('/api/openapi.json', async () => app.swagger());
  // Nothing here is for search engines.
  app.get('/robots.txt', async (_request, reply) => reply.type('text/plain').send('User-agent: *\nDisallow: /\n'));
  app.get('/schema/definition.json', async () => definitionSchema());
  peopleRoutes(app, service);
  projectRoutes(app, service);
  findRoutes(app, service);
  runRoutes(app, service);
  forwardRoutes(app, service);
  whyRoutes(app, service);
  variableRoutes(app, service);
  guideRoutes(app, service);
  badgeRoutes(app, service);
  ownerRoutes(app, service);
  keyRoutes(app, service);
  releaseRoutes(app, service);
  environmentRoutes(app, service);
  ruleRoutes(app, service);
  cutoverRoutes(app, service);
  togetherRoutes(app, service);
  deliveryRoutes(app, service);
  compareRoutes(app, service);
  resourceRoutes(app, service);
  addressRoutes(app, service);
  alertRoutes(app, service);
  destinationRoutes(app, service);
  jobRoutes(app, service);
  reviewRoutes(app, service);
  pictureRoutes(app, service);
  terminalRoutes(app, service);
  costRoutes(app, service);
  figureRoutes(app, service);
  feedRoutes(app, service);
  logRoutes(app, service);
  sourceRoutes(app, service);
  workRoutes(app, service);
  terminalWorkRoutes(app, service);
  edgeRoutes(app, service);

  if (existsSync(console)) {
    await app.register(files, { root: console, serve: false });
    // Every page has a real address: what is no file is taken from there by the console's own router.
    app.get('/*', async (request, reply) => {
      // Two slashes at the beginning are a path here, not another host.
      const { pathname } = new URL(`http://console${request.url}`);
      if (/^\/(api|git|schema)\//.test(pathname)) return reply.callNotFound();
      if (pathname.startsWith('/assets/'))
        return reply.sendFile(pathname.slice(1), console, { immutable: true, maxAge: '365d' });
      if (/^\/[a-z]+\.(js|svg)$/.test(pathname)) return reply.sendFile(pathname.slice(1), console, { maxAge: 0 });
      return reply.header('cache-control', 'no-cache').sendFile('index.html', console, { cacheControl: false });
    });
  }
  return app;
}
