/** What agents tell of their volumes' chores, and the bytes that go along: to and from whoever holds one. */
import { pipeline, type Readable, Transform } from 'node:stream';
import type { TypeBoxTypeProvider } from '@fastify/type-provider-typebox';
import { Type } from '@sinclair/typebox';
import { choreNext } from '../../../core/advance/chores.js';
import { CodedError, type Issue } from '../../../core/errors/errors.js';
import { sizeText } from '../../../core/sizes.js';
import type { Db } from '../../../records/database.js';
import { type ChoreRow, endChore, heldChore, keepBytes } from '../../../records/resources/chores.js';
import { lockVolume, moveVolume, volumeById } from '../../../records/resources/volumes.js';
import { ChoreReport, type ChoreWork, Fence, IdParams } from '../../../wire/rooms/work.js';
import { type App, needAgent, type Service } from '../../server.js';
import { sendBlob } from './bytes.js';

const FenceQuery = Type.Object({ fence: Fence });

/** A backup is its files and a little for each of them: no more than this is taken in for a volume of a size. */
const mostBytes = (size: number): number => size * 2 + 256 * 1024 ** 2;

export const choreWork = (row: ChoreRow): ChoreWork => ({
  id: row.id,
  fence: row.fence,
  volume: row.volume_id,
  act: row.act,
  turn: row.turn,
  size: row.size === null ? null : Number(row.size),
});

export function choreRoutes(app: App, { context, ...rest }: Service): void {
  const { records, blobs } = context;
  const service = { context, ...rest };
  const held = async (db: Db, id: string, agent: string, fence: string): Promise<ChoreRow> => {
    const row = await heldChore(db, id, agent, fence);
    if (!row) throw new CodedError('fence_old');
    return row;
  };

  app.post(
    '/api/agent/chores/:id/report',
    { schema: { params: IdParams, body: ChoreReport } },
    async (request, reply) => {
      const agent = await needAgent(service, request);
      const { fence, found, issue } = request.body;
      await records.transition('chore.told', async (db) => {
        const row = await held(db, request.params.id, agent.id, fence);
        const state = choreNext(row.state, issue === null ? 'done' : 'failed');
        if (state !== 'done' && state !== 'failed') throw new CodedError('fence_old');
        await endChore(db, row.id, state, { found, issue: issue as Issue | null });
        const volume = row.act === 'remove' && state === 'done' ? await lockVolume(db, row.volume_id) : null;
        if (volume) await moveVolume(db, volume, 'gone');
      });
      reply.status(204);
    },
  );

  app.get(
    '/api/agent/chores/:id/bytes',
    { schema: { params: IdParams, querystring: FenceQuery } },
    async (request, reply) => {
      const agent = await needAgent(service, request);
      const { digest } = await held(records, request.params.id, agent.id, request.query.fence);
      if (digest === null) throw new CodedError('fence_old');
      return sendBlob(blobs, digest, reply);
    },
  );

  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('*', (_request, payload, done) => done(null, payload));
    scope.put(
      '/api/agent/chores/:id/bytes',
      { schema: { params: IdParams, querystring: FenceQuery } },
      async (request, reply) => {
        const agent = await needAgent(service, request);
        const { id } = request.params;
        const { fence } = request.query;
        const row = await held(records, id, agent.id, fence);
        if (row.act !== 'back up') throw new CodedError('fence_old');
        const volume = await volumeById(records, row.volume_id);
        const bytes = bounded(mostBytes(Number(volume?.size ?? 0)));
        // An agent that goes away meanwhile ends it.
        pipeline(request.body as Readable, bytes, () => {});
        const kept = await blobs.put(bytes);
        // Whoever took it over meanwhile has bytes of its own.
        await records.transition('chore.kept', async (db) => {
          await held(db, id, agent.id, fence);
          await keepBytes(db, id, kept.digest, kept.size);
        });
        reply.status(204);
      },
    );
  });
}

/** Passes so many bytes on; of more it makes an error. */
function bounded(most: number): Transform {
  let count = 0;
  return new Transform({
    transform(chunk: Buffer, _encoding, done) {
      count += chunk.length;
      done(count > most ? new CodedError('body_too_large', { limit: sizeText(most) }) : null, chunk);
    },
  });
}
