/** Upgraded connections (WebSockets): a tunnel from the program's 101 on, and not a byte before it. */
import { randomUUID } from 'node:crypto';
import { type IncomingMessage, request as ask } from 'node:http';
import { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import { withoutDomain } from './answer.js';
import { forwarded, hopByHop } from './headers.js';
import { watchFrames } from './frames.js';
import type { ServerPath } from '../core/cutover/route.js';
import type { ServerProxy } from './proxy.js';

/** Milliseconds in which the program must have answered. */
const answerMs = 30_000;
/** Milliseconds without a byte after which the other machine is asked whether it is there. */
const keepAliveMs = 30_000;

export interface Tunnel {
  /** The connection is over. */
  leave(): void;
  /** It is open; `close` ends it, in the words of its protocol. */
  opened(close: () => void): void;
}

/** A server that goes away (RFC 6455, 7.4.1: 1001), as a frame of WebSocket without a mask. */
const goingAway = Buffer.from([0x88, 0x02, 0x03, 0xe9]);

export function upgrade(
  proxy: ServerProxy,
  path: ServerPath,
  asked: string,
  request: IncomingMessage,
  socket: Duplex,
  head: Buffer,
  { leave, opened }: Tunnel,
): void {
  const taken = proxy.take(path, request);
  if (!taken) return void refuseUpgrade(socket, 503, 'Service Unavailable', leave);
  const { instance, give } = taken;
  socket.once('close', () => {
    give();
    leave();
    call.destroy();
  });
  socket.on('error', () => socket.destroy());
  const headers = forwarded(request, randomUUID());
  headers.push('connection', 'Upgrade', 'upgrade', String(request.headers.upgrade ?? ''));
  const call = ask({
    host: instance.address,
    port: instance.port,
    method: request.method,
    path: asked,
    headers: pairs(headers),
    agent: false,
    timeout: answerMs,
  });
  /** Parts of an answer have gone to the client: nothing else can be said any more. */
  let begun = false;
  call.on('upgrade', (answer, upstream, first) => {
    begun = true;
    call.setTimeout(0);
    // A side that has vanished says nothing: its machine is asked.
    for (const side of [socket, upstream]) if (side instanceof Socket) side.setKeepAlive(true, keepAliveMs);
    const frames = watchFrames(first);
    let closing = false;
    // The program has gone without a word of its own: the client hears that its server goes away, where a frame has just ended.
    const gone = () => {
      if (closing || socket.destroyed) return;
      closing = true;
      if (!frames.between() || frames.closed()) return void socket.destroy();
      socket.end(goingAway);
      setTimeout(() => socket.destroy(), 1_000).unref();
    };
    upstream.on('data', frames.take);
    upstream.on('error', gone);
    upstream.once('close', gone);
    socket.once('close', () => upstream.destroy());
    socket.write(`HTTP/1.1 101 Switching Protocols\r\n${lines(answer.rawHeaders, true, path.ownCookies)}\r\n`);
    socket.write(first);
    upstream.write(head);
    upstream.pipe(socket, { end: false });
    socket.pipe(upstream);
    opened(() => {
      closing = true;
      upstream.unpipe(socket);
      socket.end(frames.between() ? goingAway : undefined);
      // Who does not hang up then is hung up on.
      setTimeout(() => socket.destroy(), 1_000).unref();
    });
  });
  // It does not want to: its answer is passed on, and nothing more of the client's is.
  call.on('response', (answer) => {
    begun = true;
    socket.write(
      `HTTP/1.1 ${answer.statusCode} ${(answer.statusMessage ?? '').replace(/[^\x20-\x7e]/g, '')}\r\n${lines(answer.rawHeaders, false, path.ownCookies)}connection: close\r\n\r\n`,
    );
    answer.on('error', () => socket.destroy());
    answer.pipe(socket);
  });
  call.on('timeout', () => call.destroy(new Error('it did not answer')));
  call.on('error', () => (begun ? socket.destroy() : refuseUpgrade(socket, 502, 'Bad Gateway', () => {})));
  call.end();
}

export function refuseUpgrade(socket: Duplex, status: number, text: string, leave: () => void): void {
  leave();
  if (socket.destroyed) return;
  socket.on('error', () => {});
  socket.end(`HTTP/1.1 ${status} ${text}\r\nconnection: close\r\ncontent-length: 0\r\n\r\n`);
}

/** One text for each name; several where a header came several times. */
function pairs(headers: readonly string[]): Record<string, string | string[]> {
  const all: Record<string, string | string[]> = {};
  for (let at = 0; at < headers.length; at += 2) {
    const name = (headers[at] as string).toLowerCase();
    const value = headers[at + 1] as string;
    const before = all[name];
    all[name] = before === undefined ? value : [before, value].flat();
  }
  return all;
}

/** Header lines of an answer; without those about one connection, unless it is the switch itself. The body of another answer ends with its connection. */
function lines(raw: readonly string[], switching: boolean, ownCookies = false): string {
  let text = '';
  for (let at = 0; at < raw.length; at += 2) {
    const name = (raw[at] as string).toLowerCase();
    if (!switching && hopByHop.has(name)) continue;
    const value = raw[at + 1] as string;
    text += `${raw[at]}: ${ownCookies && name === 'set-cookie' ? withoutDomain(value) : value}\r\n`;
  }
  return text;
}
