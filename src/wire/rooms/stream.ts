/**
 * One end of a WebSocket (RFC 6455) whose reader sets the pace: what comes before somebody listens waits, a sender waits for a slow
 * other side, and one that gives no sign of life is ended.
 */
import type { Socket } from 'node:net';
import { type RawData, WebSocket } from 'ws';
import { messageBytes } from '../../core/streams.js';

export interface Stream {
  /** Messages from now on, those that came before first. */
  take(message: (data: Buffer, binary: boolean) => void): void;
  /** False where the other side is slow: then `room` is called once it has taken enough. */
  send(data: Buffer | string, room?: () => void): boolean;
  /** A text message with this value. */
  tell(value: unknown): void;
  pause(): void;
  resume(): void;
  close(code?: number, reason?: string): void;
  /** It is over, whoever ended it. */
  closed: Promise<void>;
  isOpen(): boolean;
}

/** Bytes on their way above which a sender waits, and below which it goes on. */
const highBytes = 256 * 1024;
const lowBytes = 64 * 1024;
/** Milliseconds between two signs of life, and until an end that nobody answers is made. */
const lifeMs = 20_000;
const closeMs = 3_000;

export function openStream(socket: WebSocket): Stream {
  const early: { data: Buffer; binary: boolean }[] = [];
  let taker: ((data: Buffer, binary: boolean) => void) | null = null;
  let heard = true;
  let paused = false;
  socket.on('message', (raw: RawData, binary: boolean) => {
    heard = true;
    const data = Array.isArray(raw) ? Buffer.concat(raw) : Buffer.from(raw as Buffer);
    if (taker) return taker(data, binary);
    early.push({ data, binary });
    // What comes with the next ones waits in the other side's machine.
    socket.pause();
  });
  socket.on('pong', () => {
    heard = true;
  });
  // Its end says the same.
  socket.on('error', () => {});
  const life = setInterval(() => {
    // One that is not read is not heard.
    if (!heard && !paused && taker) return socket.terminate();
    heard = false;
    if (socket.readyState === socket.OPEN) socket.ping();
  }, lifeMs);
  const closed = new Promise<void>((resolve) => {
    socket.once('close', () => {
      clearInterval(life);
      resolve();
    });
  });
  const stream: Stream = {
    take(message) {
      taker = message;
      for (const { data, binary } of early.splice(0)) message(data, binary);
      if (!paused) socket.resume();
    },
    send(data, room) {
      if (socket.readyState !== socket.OPEN) return true;
      socket.send(data, () => {
        if (room && socket.bufferedAmount <= lowBytes) room();
      });
      return socket.bufferedAmount <= highBytes;
    },
    tell(value) {
      stream.send(JSON.stringify(value));
    },
    pause() {
      paused = true;
      if (socket.readyState === socket.OPEN) socket.pause();
    },
    resume() {
      paused = false;
      heard = true;
      if (socket.readyState === socket.OPEN) socket.resume();
    },
    close(code = 1000, reason = '') {
      // A close is read from the other side like all else.
      if (socket.readyState === socket.OPEN) socket.resume();
      socket.close(code, reason);
      setTimeout(() => socket.terminate(), closeMs).unref();
    },
    closed,
    isOpen: () => socket.readyState === socket.OPEN,
  };
  return stream;
}

/** Dials the stream at an address, with a token. */
export const dial = (url: string | URL, token: string): WebSocket =>
  new WebSocket(url, {
    headers: { authorization: `Bearer ${token}` },
    maxPayload: messageBytes + 1,
    perMessageDeflate: false,
    handshakeTimeout: 10_000,
  });

/** The first message, or null where none comes within `ms`. */
export function firstMessage(stream: Stream, ms: number): Promise<string | null> {
  return new Promise((resolve) => {
    const timer = setTimeout(() => resolve(null), ms);
    void stream.closed.then(() => resolve(null));
    stream.take((data, binary) => {
      clearTimeout(timer);
      resolve(binary ? null : data.toString('utf8'));
    });
  });
}

/** What one side says goes to the other as fast as that takes it; `pass` says what may. */
export function pour(from: Stream, to: Stream, pass: (data: Buffer, binary: boolean) => Buffer | string | null): void {
  from.take((data, binary) => {
    const passed = pass(data, binary);
    if (passed === null) return;
    const room = () => from.resume();
    if (!to.send(passed, room)) from.pause();
  });
}

/** Passes the bytes of a socket on in messages, and those of messages to it, each as fast as the other side takes them. */
export function joinSocket(stream: Stream, socket: Socket): void {
  socket.on('drain', () => stream.resume());
  stream.take((data, binary) => {
    if (binary && !socket.destroyed && !socket.write(data)) stream.pause();
  });
  socket.on('data', (bytes: Buffer) => {
    let goes = true;
    for (let at = 0; at < bytes.length; at += messageBytes)
      goes = stream.send(bytes.subarray(at, at + messageBytes), () => socket.resume());
    if (!goes) socket.pause();
  });
}
