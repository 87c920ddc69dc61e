/** The lines of an attempt, live. */
import { useEffect, useState } from 'react';
import type { LogChunk } from '../../../src/wire/logs';
import { openSource } from './live';

export interface LogLine {
  /** From 0, as the work printed them. */
  number: number;
  command: number;
  text: string;
  /** In place of lines that are not kept: how many, and their bytes. */
  gap?: { lines: number; bytes: number };
}

export interface LogState {
  lines: LogLine[];
  over: boolean;
}

const empty: LogState = { lines: [], over: false };

/** Puts chunks together to lines. The array grows in place: half a million lines are not copied for each chunk. */
export function makeLines(): { add(chunk: LogChunk): void; all(): LogLine[] } {
  const lines: LogLine[] = [];
  let rest: LogLine | null = null;
  return {
    add(chunk) {
      if (chunk.skipped) {
        if (rest) lines.push(rest);
        rest = null;
        lines.push({
          number: chunk.firstLine - chunk.skipped.lines,
          command: chunk.command,
          text: '',
          gap: chunk.skipped,
        });
      }
      const pieces: string[] = ((rest?.text ?? '') + chunk.text).split('\n');
      const first: number = rest?.number ?? chunk.firstLine;
      const last = pieces.pop() ?? '';
      pieces.forEach((text, at) => {
        lines.push({ number: first + at, command: chunk.command, text });
      });
      rest = last === '' ? null : { number: first + pieces.length, command: chunk.command, text: last };
    },
    all: () => (rest ? [...lines, rest] : lines.slice()),
  };
}

/** Follows a log by its address; null shows nothing. Chunks that arrive together are shown together. */
export function useLog(path: string | null): LogState {
  const [state, setState] = useState<LogState>(empty);
  useEffect(() => {
    setState(empty);
    if (!path) return;
    let lines = makeLines();
    let timer: ReturnType<typeof setTimeout> | null = null;
    const show = (over: boolean) => {
      if (timer) clearTimeout(timer);
      timer = null;
      setState({ lines: lines.all(), over });
    };
    const close = openSource(`${path}?follow=true`, (source) => {
      // One that is opened anew begins at the beginning; one that the browser takes up goes on.
      lines = makeLines();
      source.addEventListener('chunk', (event) => {
        lines.add(JSON.parse((event as MessageEvent<string>).data) as LogChunk);
        timer ??= setTimeout(() => show(false), 60);
      });
      source.addEventListener('end', () => {
        source.close();
        show(true);
      });
    });
    return () => {
      close();
      if (timer) clearTimeout(timer);
    };
  }, [path]);
  return state;
}

const telling = /\b(AssertionError|([A-Z]\w*)?Error\b|error:|not ok|FAIL(ED)?\b|panic:|Traceback|Exception\b|fatal:)|✖/;

/** Index of the first line that tells of an error, or -1. */
export const firstError = (lines: readonly LogLine[]): number => lines.findIndex((line) => telling.test(line.text));

/** Indexes of the lines that have a text in them, whatever the case; at most `limit`. */
export function matches(lines: readonly LogLine[], text: string, limit = 5_000): number[] {
  const wanted = text.toLowerCase();
  const found: number[] = [];
  if (wanted)
    for (let at = 0; at < lines.length && found.length < limit; at++)
      if (lines[at]?.text.toLowerCase().includes(wanted)) found.push(at);
  return found;
}
