/** Terminals in environments: asked for, listed, ended, and the person's stream. */
import { Type } from '@sinclair/typebox';
import type { FastifyRequest } from 'fastify';
import { CodedError } from '../../../core/errors/errors.js';
import { askTerminal, stopByHand } from '../../../engine/terminals/terminals.js';
import type { Caller } from '../../../records/callers/people.js';
import { terminalById, terminalsOf } from '../../../records/deployments/terminals.js';
import { Terminal, TerminalAsk, TerminalAsked } from '../../../wire/environments/terminals.js';
import { Id, Page } from '../../../wire/parts.js';
import { awake } from '../../waking.js';
import { openStream } from '../../../wire/rooms/stream.js';
import { handsFor } from '../../access.js';
import { type App, change, needEnvironment, ourOrigin, requireAccess, type Service } from '../../server.js';
import { terminalView } from '../../views/terminals.js';

/** Of those that have ended, the newest. */
const listed = 50;

export function terminalRoutes(app: App, service: Service): void {
  const { records } = service.context;
  const path = '/api/projects/:project/environments/:name/terminals';
  const needHands = async (request: FastifyRequest) => {
    const found = await needEnvironment(service, request);
    requireAccess(request.caller as Caller, handsFor(found.environment));
    return found;
  };
  const One = Type.Object({ project: Type.String(), name: Type.String(), id: Id });

  app.get(path, { schema: { response: { 200: Page(Terminal) } } }, async (request) => {
    const { environment } = await needEnvironment(service, request);
    const rows = await terminalsOf(records, environment.id, listed);
    return { items: await Promise.all(rows.map((row) => terminalView(records, row))), next: null };
  });

  app.post(path, { schema: { body: TerminalAsk, response: { 201: TerminalAsked } } }, async (request, reply) => {
    const { project, environment } = await needHands(request);
    const { command, tty, part, beside } = request.body;
    if (command.some((word) => word.includes('\0')) || command[0] === '')
      throw new CodedError('body_invalid', { detail: 'the command has an empty name, or a zero byte' });
    await awake(service, reply, project, environment);
    return change(service, request, reply, 'terminal.asked', 201, async (db) => {
      const { row, ticket } = await askTerminal(db, {
        project,
        environment: environment.name,
        caller: request.caller as Caller,
        command,
        tty,
        part: part ?? null,
        beside: beside ?? null,
      });
      const at = `/api/projects/${encodeURIComponent(project.name)}/environments/${encodeURIComponent(environment.name)}`;
      return { terminal: await terminalView(db, row), ticket, stream: `${at}/terminals/${row.id}/stream` };
    });
  });

  app.delete(`${path}/:id`, { schema: { params: One, response: { 202: Terminal } } }, async (request, reply) => {
    const { environment } = await needHands(request);
    const { id } = request.params;
    return change(service, request, reply, 'terminal.stop-asked', 202, async (db) => {
      await stopByHand(db, id, environment.id);
      const row = await terminalById(db, id);
      if (!row) throw new CodedError('terminal_gone');
      return terminalView(db, row);
    });
  });

  app.get(
    `${path}/:id/stream`,
    {
      websocket: true,
      schema: { params: One },
      preValidation: async (request) => {
        ourOrigin(request);
        await needHands(request);
      },
    },
    async (socket, request) => {
      const stream = openStream(socket);
      const arrived = async () => {
        const { environment } = await needEnvironment(service, request);
        await service.doors.arrive(request.params.id, stream, request, handsFor(environment));
      };
      await arrived().catch((error: Error) => {
        service.context.log.warn({ error: String(error.stack ?? error) }, 'a terminal was ended by a failure');
        stream.close(1011);
      });
    },
  );
}
