/** A program in a sandbox that a person's stream is joined to. */
import type { Readable, Writable } from 'node:stream';
import type { TerminalWork } from '../../wire/rooms/work.js';

export interface Hand {
  input: Writable;
  output: Readable;
  errors: Readable;
  resize(columns: number, rows: number): void;
  /** Exit status, once both outputs are read to their end; 128 and the signal's number where one ended it. */
  ended: Promise<number>;
  /** Ends its processes, kindly at first. */
  end(): void;
  /** Gives back what it holds; its processes are gone then. */
  clear(): Promise<void>;
}

/** Milliseconds between asking processes to end and ending them. */
export const graceMs = 2_000;

/** What hand.sh is told. */
export const handWords = (work: Pick<TerminalWork, 'tty' | 'columns' | 'rows' | 'command'>): string[] => [
  work.tty ? 'tty' : 'plain',
  String(work.columns),
  String(work.rows),
  ...work.command,
];

/** Resolves when a stream has been read to its end, or is gone. */
export const readWhole = (stream: Readable): Promise<void> =>
  new Promise((resolve) => {
    stream.once('close', resolve);
    stream.once('end', resolve);
  });
