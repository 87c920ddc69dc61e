/** The edges' side: the table, and the bytes that its routes name. */
import type { Issue } from '../../core/errors/errors.js';
import { CodedError } from '../../core/errors/errors.js';
import { isDigest } from '../../blobs/store.js';
import { acknowledge, routesAfter, routesName } from '../../records/callers/agents.js';
import { grantOf } from '../../records/callers/people.js';
import { TableAnswer, TableRequest } from '../../wire/work.js';
import { type App, notFound, type Service, tokenOf } from '../server.js';
import { DigestParams, sendBlob } from './bytes.js';

export function edgeRoutes(app: App, service: Service): void {
  const { context, hub } = service;
  const { records, blobs } = context;

  app.get('/api/edge/blobs/:digest', { schema: { params: DigestParams } }, async (request, reply) => {
    const { digest } = request.params;
    if (!(await routesName(records, isDigest(digest) ? digest : '-'))) throw notFound('digest', digest);
    return sendBlob(blobs, digest, reply);
  });

  app.post(
    '/api/edge/table',
    { schema: { body: TableRequest, response: { 200: TableAnswer } } },
    async (request, reply) => {
      const { name, have, waitMs, without } = request.body;
      const open = Object.fromEntries(
        without.map((one) => [one.host, { version: one.version, issue: one.issue as Issue | null }]),
      );
      const gone = new AbortController();
      reply.raw.once('close', () => gone.abort());
      let woken = false;
      const off = hub.on(
        (topic) => topic === 'routes',
        () => {
          woken = true;
        },
      );
      try {
        const grant = await grantOf(records, tokenOf(request));
        if (grant?.name !== name)
          throw new CodedError('token_grant', { name: grant?.name ?? 'this edge', what: `the name ${name}` });
        const edge = await records.transition('edge.acknowledged', (db) =>
          acknowledge(db, tokenOf(request), name, have, open),
        );
        if (!edge) throw new CodedError('name_taken', { what: 'edge', name });
        let routes = await routesAfter(records, have);
        if (routes.length === 0 && waitMs > 0) {
          if (!woken)
            await hub.wait((topic) => topic === 'routes', waitMs, AbortSignal.any([gone.signal, service.closing]));
          routes = await routesAfter(records, have);
        }
        return { routes };
      } finally {
        off();
      }
    },
  );
}
