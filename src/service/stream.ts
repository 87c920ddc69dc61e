/** An answer that goes on: server-sent events (WHATWG HTML, 9.2). */
import type { FastifyReply } from 'fastify';
import type { Service } from './server.js';

export interface EventStream {
  send(event: string, data: unknown, id?: string): void;
  /** Waits for a topic, with a sign of life every 10 s, and until the reader has taken what was sent. */
  idle(matches: (topic: string) => boolean): Promise<void>;
  ended(): boolean;
  end(): void;
}

export function openStream(service: Service, reply: FastifyReply): EventStream {
  reply.hijack();
  const { raw } = reply;
  raw.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
  const gone = new AbortController();
  raw.on('close', () => gone.abort());
  const close = () => raw.end();
  service.closing.addEventListener('abort', close);
  raw.on('close', () => service.closing.removeEventListener('abort', close));
  // What is heard while the records are being read must not be missed: the flag is raised by every topic.
  let heard = false;
  const off = service.hub.on(
    () => true,
    () => {
      heard = true;
    },
  );
  raw.on('close', off);
  return {
    send(event, data, id) {
      raw.write(`${id ? `id: ${id}\n` : ''}event: ${event}\ndata: ${JSON.stringify(data)}\n\n`);
    },
    async idle(matches) {
      if (raw.writableNeedDrain) await new Promise<void>((resolve) => void raw.once('drain', resolve).once('close', resolve));
      if (heard) {
        heard = false;
        return;
      }
      await service.hub.wait(matches, 10_000, gone.signal);
      heard = false;
      if (!raw.writableEnded && !gone.signal.aborted) raw.write(': still here\n\n');
    },
    ended: () => gone.signal.aborted || raw.writableEnded || service.closing.aborted,
    end: () => void raw.end(),
  };
}
