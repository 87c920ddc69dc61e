/** The person's end of a terminal's stream. */
import { channels, messageBytes } from '../core/streams.js';
import { FromAgent, type Hello, type TerminalAsk, type TerminalAsked } from '../wire/environments/terminals.js';
import { parsed } from '../wire/rooms/fits.js';
import { post } from './api.js';
import { connect } from './dialled.js';

// One file holds all that speaks WebSocket, loaded when it is wanted.
export { openPort } from './port.js';

export interface Ended {
  why: string;
  exit: number | null;
  says: string | null;
}

export interface Joined {
  /** Sends input; false: wait for `room` first. */
  write(bytes: Buffer, room: () => void): boolean;
  eof(): void;
  resize(columns: number, rows: number): void;
  leave(): void;
  ended: Promise<Ended>;
}

export interface Taking {
  /** Takes output; false where it must be waited for: then `room` is to be called. */
  output(bytes: Buffer, room: () => void): boolean;
  errors(bytes: Buffer, room: () => void): boolean;
}

/** Asks for a terminal in the environment at `path` and joins it. */
export async function joinTerminal(
  path: string,
  ask: TerminalAsk,
  { size, term }: Pick<Hello, 'size' | 'term'>,
  taking: Taking,
): Promise<Joined> {
  const asked = await post<TerminalAsked>(`${path}/terminals`, ask);
  const stream = await connect(asked.stream);
  stream.tell({ ticket: asked.ticket, size, term } satisfies Hello);
  let resolve = (_: Ended) => {};
  const ended = new Promise<Ended>((done) => {
    resolve = done;
  });
  void stream.closed.then(() => resolve({ why: 'lost', exit: null, says: null }));
  stream.take((data, binary) => {
    if (!binary) {
      const told = parsed(FromAgent, data.toString('utf8'));
      if (told && 'ended' in told) {
        resolve(told.ended);
        stream.close();
      }
      return;
    }
    const take = data[0] === channels.errors ? taking.errors : taking.output;
    if (!take(data.subarray(1), () => stream.resume())) stream.pause();
  });
  return {
    write(bytes, room) {
      let goes = true;
      for (let at = 0; at < bytes.length; at += messageBytes)
        goes = stream.send(Buffer.concat([Buffer.of(channels.input), bytes.subarray(at, at + messageBytes)]), room);
      return goes;
    },
    eof: () => stream.tell({ eof: true }),
    resize: (columns, rows) => stream.tell({ size: [columns, rows] }),
    leave: () => stream.close(),
    ended,
  };
}
