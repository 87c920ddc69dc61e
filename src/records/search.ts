/** Lines of a log that have a text in them. */
import type { Db } from './database.js';
import { readLog } from './logs.js';

export interface FoundLine {
  /** From 0. */
  line: number;
  text: string;
}

const chunksAtOnce = 32;
const textLimit = 400;

/** At most `limit` lines from line `from` on, whatever the case; `next` is the line to go on with, or null at the end. */
export async function searchLog(db: Db, stream: string, text: string, from: number, limit: number): Promise<{ found: FoundLine[]; next: number | null }> {
  const wanted = text.toLowerCase();
  const found: FoundLine[] = [];
  for await (const one of linesOf(db, stream)) {
    if (one.line < from || !one.text.toLowerCase().includes(wanted)) continue;
    if (found.length === limit) return { found, next: one.line };
    found.push({ line: one.line, text: one.text.slice(0, textLimit) });
  }
  return { found, next: null };
}

/** Every line of a stream, put together across its chunks. */
async function* linesOf(db: Db, stream: string): AsyncGenerator<FoundLine> {
  let rest: FoundLine | null = null;
  for (let position = 0; ; ) {
    const chunks = await readLog(db, stream, position, chunksAtOnce);
    for (const chunk of chunks) {
      position = chunk.position + chunk.bytes.length;
      // A gap lies between: what stood before it is a line of its own.
      if (rest && rest.line !== chunk.firstLine) {
        yield rest;
        rest = null;
      }
      const pieces = chunk.bytes.toString('utf8').split('\n');
      for (const [at, piece] of pieces.entries()) {
        const line: FoundLine = at === 0 && rest ? { line: rest.line, text: rest.text + piece } : { line: chunk.firstLine + at, text: piece };
        if (at < pieces.length - 1) yield line;
        else rest = line.text === '' ? null : line;
      }
    }
    if (chunks.length < chunksAtOnce) break;
  }
  if (rest) yield rest;
}
