/** The lines of an attempt, live. */
import { useEffect, useState } from 'react';
import type { LogChunk } from '../../../src/wire/api';

export interface LogLine {
  number: number;
  command: number;
  text: string;
}

export interface LogState {
  lines: LogLine[];
  over: boolean;
}

const empty: LogState = { lines: [], over: false };

/** Follows a log by its address; null shows nothing. Chunks that arrive together are shown together. */
export function useLog(path: string | null): LogState {
  const [state, setState] = useState<LogState>(empty);
  useEffect(() => {
    setState(empty);
    if (!path) return;
    const source = new EventSource(`${path}?follow=true`);
    let lines: LogLine[] = [];
    let rest: LogLine | null = null;
    let timer: ReturnType<typeof setTimeout> | null = null;
    const show = (over: boolean) => {
      if (timer) clearTimeout(timer);
      timer = null;
      setState({ lines: rest ? [...lines, rest] : lines, over });
    };
    source.addEventListener('chunk', (event) => {
      const chunk = JSON.parse((event as MessageEvent<string>).data) as LogChunk;
      const pieces = ((rest?.text ?? '') + chunk.text).split('\n');
      const first: number = rest ? rest.number : lines.length;
      const last = pieces.pop() ?? '';
      lines = lines.concat(pieces.map((text, at) => ({ number: first + at, command: chunk.command, text })));
      rest = last === '' ? null : { number: first + pieces.length, command: chunk.command, text: last };
      timer ??= setTimeout(() => show(false), 30);
    });
    source.addEventListener('end', () => {
      source.close();
      show(true);
    });
    return () => {
      source.close();
      if (timer) clearTimeout(timer);
    };
  }, [path]);
  return state;
}

const telling = /\b(AssertionError|([A-Z]\w*)?Error\b|error:|not ok|FAIL(ED)?\b|panic:|Traceback|Exception\b|fatal:)|✖/;

/** Index of the first line that tells of an error, or -1. */
export const firstError = (lines: readonly LogLine[]): number => lines.findIndex((line) => telling.test(line.text));
