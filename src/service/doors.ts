/** Where the two streams of a terminal meet: that of its person, which waits here, and that of the agent, which comes to this service. */
import type { FastifyRequest } from 'fastify';
import { openMs, takeMs } from '../core/advance/terminals.js';
import { CodedError, type Issue, issue, wording } from '../core/errors/errors.js';
import type { Role, TerminalEnd } from '../core/states.js';
import { arriveAt, endAtDoor } from '../engine/terminals/terminals.js';
import { terminalById } from '../records/deployments/terminals.js';
import { channels } from '../core/streams.js';
import { FromAgent, FromPerson, Hello } from '../wire/environments/terminals.js';
import { fits, parsed } from '../wire/rooms/fits.js';
import { firstMessage, pour, type Stream } from '../wire/rooms/stream.js';
import { type Doors, mayStill, type Service } from './server.js';

/** Terminals that one service joins at a time. */
const most = 500;
/** Milliseconds for the first message; between two looks at whether its person may still; for the agent to answer that it is over. */
const helloMs = 10_000;
const allowedMs = 60_000;
const goodbyeMs = 5_000;

export function openDoors(service: () => Service): Doors {
  const waiting = new Map<string, (agent: Stream) => void>();
  let open = 0;

  async function arrive(id: string, person: Stream, request: FastifyRequest, role: Role): Promise<void> {
    if (open >= most) return refuse(person, issue('busy', { what: 'open terminals' }));
    open++;
    try {
      await serve(id, person, request, role);
    } catch (error) {
      if (!(error instanceof CodedError)) throw error;
      refuse(person, error.issue);
    } finally {
      open--;
      person.close();
    }
  }

  async function serve(id: string, person: Stream, request: FastifyRequest, role: Role): Promise<void> {
    const { context, closing } = service();
    const hello = parsed(Hello, (await firstMessage(person, helloMs)) ?? '');
    if (!hello)
      throw new CodedError('body_invalid', { detail: 'the first message is not the ticket, the size and the term' });
    // What is typed meanwhile waits.
    person.pause();
    const { ticket, term, size } = hello;
    await arriveAt(context, id, {
      ticket,
      caller: request.caller?.id ?? '',
      door: context.door,
      term,
      columns: size[0],
      rows: size[1],
    });
    // Nobody else has come to this door: its ticket was good once.
    const joined = new Promise<Stream>((resolve) => {
      waiting.set(id, resolve);
    });
    const ending = new AbortController();
    void person.closed.then(() => ending.abort());
    closing.addEventListener('abort', () => ending.abort(), { once: true, signal: ending.signal });
    const agent = await Promise.race([joined, untilOver(id, ending.signal)]).finally(() => waiting.delete(id));
    // One that comes in the moment in which it is over is sent away.
    if (agent === null) void joined.then((late) => late.close(4404));
    if (agent === null) {
      const row = await terminalById(context.records, id);
      if (row && row.state !== 'ended') await endAtDoor(context, id, 'left', null);
      return farewell(person, row?.why ?? 'lost', row?.exit ?? null, row?.issue ?? null);
    }
    let said = false;
    pour(person, agent, (data, binary) => {
      if (binary) return data[0] === channels.input ? data : null;
      return parsed(FromPerson, data.toString('utf8')) ? data.toString('utf8') : null;
    });
    pour(agent, person, (data, binary) => {
      if (binary) return data[0] === channels.output || data[0] === channels.errors ? data : null;
      const told = parsed(FromAgent, data.toString('utf8'));
      if (told && 'ended' in told) said = true;
      return told === null ? null : JSON.stringify(told);
    });
    person.resume();
    void agent.closed.then(() => ending.abort());
    const why = await watch(id, request, role, ending.signal);
    if (agent.isOpen()) {
      // Its agent ends the processes and reports; there is nobody to wait with who leaves.
      agent.tell({ over: why });
      await Promise.race([agent.closed, new Promise((done) => setTimeout(done, goodbyeMs).unref())]);
      agent.close();
    }
    if (!said) {
      const row = await terminalById(context.records, id);
      farewell(person, row?.why ?? (why === 'left' ? 'lost' : why), row?.exit ?? null, row?.issue ?? null);
    }
  }

  /** Null when the terminal is over before an agent came. */
  async function untilOver(id: string, signal: AbortSignal): Promise<null> {
    const { context, hub } = service();
    const deadline = AbortSignal.any([signal, AbortSignal.timeout(takeMs + openMs)]);
    while (!deadline.aborted) {
      if ((await terminalById(context.records, id))?.state === 'ended') return null;
      await hub.wait((topic) => topic === 'terminals', 5_000, deadline);
    }
    return null;
  }

  /** Waits until somebody ends it, its person may no longer, or `signal` says that a side is gone. */
  async function watch(id: string, request: FastifyRequest, role: Role, signal: AbortSignal): Promise<TerminalEnd> {
    const { context, hub } = service();
    const over = (topic: string) => topic === 'terminals' || topic === 'callers';
    while (!signal.aborted) {
      await hub.wait(over, allowedMs, signal);
      if (signal.aborted) break;
      if ((await terminalById(context.records, id))?.stop || !(await mayStill(service(), request, role)))
        return 'by hand';
    }
    return 'left';
  }

  return {
    arrive,
    async join(id, agent, opened) {
      const door = waiting.get(id);
      // Its person has left.
      if (!door || !(await opened())) return agent.close(4404, 'nobody is at the door');
      door(agent);
      await agent.closed;
    },
  };
}

function refuse(person: Stream, about: Issue): void {
  farewell(person, 'failed', null, about);
  person.close();
}

function farewell(person: Stream, why: TerminalEnd, exit: number | null, about: Issue | null): void {
  const said = about && wording(about);
  const last = { ended: { why, exit, says: said ? `${said.says} ${said.next}`.slice(0, 2_000) : null } };
  if (fits(FromAgent, last)) person.tell(last);
}
