/** Terminals, from their agents' side: the stream out, and how one ended. */
import { Type } from '@sinclair/typebox';
import { joinTerminal, reportTerminal } from '../../../engine/terminals/terminals.js';
import type { Issue } from '../../../core/errors/errors.js';
import { Fence, IdParams, TerminalReport } from '../../../wire/rooms/work.js';
import { openStream } from '../../../wire/rooms/stream.js';
import { type App, needAgent, type Service } from '../../server.js';

export function terminalWorkRoutes(app: App, service: Service): void {
  const { context } = service;
  const path = '/api/agent/terminals/:id';

  app.get(
    `${path}/stream`,
    { websocket: true, schema: { params: IdParams, querystring: Type.Object({ fence: Fence }) } },
    async (socket, request) => {
      const stream = openStream(socket);
      const { id } = request.params;
      const { fence } = request.query;
      try {
        const agent = await needAgent(service, request);
        await service.doors.join(id, stream, () => joinTerminal(context, id, { agent: agent.id, fence }));
      } catch (error) {
        context.log.warn({ error: String((error as Error).stack ?? error) }, 'a terminal could not be joined');
        stream.close(1011);
      }
    },
  );

  app.post(`${path}/report`, { schema: { params: IdParams, body: TerminalReport } }, async (request, reply) => {
    const agent = await needAgent(service, request);
    const { fence, why, exit, issue } = request.body;
    const over = { why, exit, issue: issue as Issue | null };
    await reportTerminal(context, request.params.id, { agent: agent.id, fence }, over);
    reply.status(204);
  });
}
