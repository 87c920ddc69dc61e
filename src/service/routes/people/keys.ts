/** Keys: those that vouch for releases, for everybody to read; and making new ones. */
import { Type } from '@sinclair/typebox';
import { jwkOf } from '../../../core/release/keyset.js';
import { rotateKey } from '../../../engine/upkeep/keys.js';
import { recordEvents } from '../../../records/events.js';
import { KeySet } from '../../../wire/releases.js';
import { type App, change, type Service } from '../../server.js';

export function keyRoutes(app: App, service: Service): void {
  const { context } = service;

  app.post(
    '/api/keys/rotate',
    { schema: { response: { 200: Type.Object({ encrypted: Type.Integer() }) } } },
    (request, reply) =>
      change(service, request, reply, 'key.rotated', 200, async (db, actor) => ({
        encrypted: await rotateKey(context, db, actor),
      })),
  );

  /** At a fixed address, for everybody: whoever has a release's file checks it with these. */
  app.get(
    '/api/keys/releases',
    // Strangers may ask, too.
    { schema: { response: { 200: KeySet } }, config: { rateLimit: { max: 120, timeWindow: '1 minute' } } },
    async (_request, reply) => {
      reply.type('application/jwk-set+json');
      return { keys: context.releaseKeys.all().map(jwkOf) };
    },
  );

  app.post(
    '/api/keys/releases/rotate',
    { schema: { response: { 200: Type.Object({ kid: Type.String() }) } } },
    (request, reply) =>
      change(service, request, reply, 'key.rotated', 200, async (db, actor) => {
        const kid = context.releaseKeys.rotate();
        await recordEvents(db, {
          type: 'key.rotated',
          project: null,
          subject: 'the key of releases',
          actor,
          data: { key: kid },
        });
        return { kid };
      }),
  );
}
