/**
 * Syslog over TCP and TLS (RFC 6587, RFC 5425). Neither says that a message was taken, so each round has a connection of its own: when
 * all is written this side says that nothing more comes, and the other's answer to that, its own end, is taken for its word.
 */
import { wordsOf } from './words.js';
import { once } from 'node:events';
import { connect, type Socket } from 'node:net';
import { setTimeout } from 'node:timers/promises';
import { connect as connectTls } from 'node:tls';
import type { LogsSent } from '../core/advance/destinations.js';
import { issue } from '../core/errors/errors.js';

/** Milliseconds for a connection, and for which the other side may take nothing. */
const connectMs = 10_000;
const silenceMs = 20_000;
/** For which this side keeps its own end back: one that ends the connection without reading is told from one that answers. */
const settleMs = 50;

export interface SyslogTarget {
  /** As it is called, which its certificate must say. */
  host: string;
  /** Address to connect to. */
  address: string;
  port: number;
  tls: boolean;
  /** Certificates that it is known by instead of those of everybody (PEM). */
  authorities: string | null;
}

export async function sendSyslog(target: SyslogTarget, frames: readonly Buffer[]): Promise<LogsSent> {
  const where = `${target.host}:${target.port}`;
  let socket: Socket | null = null;
  try {
    socket = await open(target);
    socket.setTimeout(silenceMs, () => socket?.destroy(Object.assign(new Error('silence'), { code: 'ETIMEDOUT' })));
    // What it says is of no interest; unread, its end would not be seen.
    socket.resume();
    let written = false;
    // An end that comes before all is written is no word for what was.
    socket.once('end', () => {
      if (!written) socket?.destroy(new Error('it ended the connection before it had all'));
    });
    for (let at = 0; at < frames.length; at += 500)
      if (!socket.write(Buffer.concat(frames.slice(at, at + 500)))) await heard(socket, 'drain');
    await setTimeout(settleMs);
    if (socket.destroyed) throw socket.errored ?? new Error('the connection was lost');
    written = true;
    socket.end();
    await heard(socket, 'end');
    return { done: true, rejected: 0, why: null };
  } catch (error) {
    const { code = '' } = error as NodeJS.ErrnoException;
    const about =
      code === 'ETIMEDOUT'
        ? issue('channel_silent', { where })
        : issue('channel_refused', { where, detail: wordsOf(error) });
    return { done: false, final: false, issue: about };
  } finally {
    socket?.destroy();
  }
}

/** Waits for an event; what ends the connection before it is a failure. */
function heard(socket: Socket, event: 'drain' | 'end'): Promise<void> {
  return new Promise((resolve, reject) => {
    const over = () => reject(socket.errored ?? new Error('the connection was lost'));
    if (socket.destroyed) return over();
    socket.once(event, () => {
      socket.off('close', over);
      resolve();
    });
    socket.once('close', over);
  });
}

async function open({ host, address, port, tls, authorities }: SyslogTarget): Promise<Socket> {
  const socket = tls
    ? connectTls({
        host: address,
        port,
        servername: host,
        minVersion: 'TLSv1.2',
        ...(authorities === null ? {} : { ca: authorities }),
      })
    : connect({ host: address, port });
  // Its error is heard by whoever waits for what comes next.
  socket.on('error', () => {});
  const signal = AbortSignal.timeout(connectMs);
  try {
    await once(socket, tls ? 'secureConnect' : 'connect', { signal });
  } catch (error) {
    socket.destroy();
    throw signal.aborted ? Object.assign(new Error('no connection'), { code: 'ETIMEDOUT' }) : error;
  }
  return socket;
}
