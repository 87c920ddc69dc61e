/** How many lines end in these bytes. */
export function countLines(bytes: Uint8Array): number {
  let count = 0;
  for (let at = bytes.indexOf(10); at >= 0; at = bytes.indexOf(10, at + 1)) count++;
  return count;
}

/** A line that was found. */
export interface FoundLine {
  /** From 0. */
  line: number;
  text: string;
}

/** Pieces of a log that follow each other, and what is looked for in them. */
export interface Batch {
  chunks: { firstLine: number; bytes: Uint8Array }[];
  /** The line that the piece before left open, or null. */
  rest: FoundLine | null;
  /** In lower case. */
  wanted: string;
  /** Lines before this one do not count. */
  from: number;
  limit: number;
}

/** Characters of a found line that are given, and of one that are looked at. */
const shown = 400;
const looked = 64 * 1024;

/** The longest part of a text that has one form alone, whatever the case: it can be looked for in bytes. Empty: none. */
export const caseless = (text: string): string =>
  (text.match(/[!-@[-`{-~ ]{2,}/g) ?? []).reduce((best, one) => (one.length > best.length ? one : best), '');

/**
 * Lines with a text in them, whatever the case, at most `limit`; `next` is the line to go on with, when there were more. `rest` is what
 * the next piece goes on with.
 */
export function findLines({ chunks, rest: open, wanted, from, limit }: Batch): {
  found: FoundLine[];
  rest: FoundLine | null;
  next: number | null;
} {
  const sure = caseless(wanted);
  const found: FoundLine[] = [];
  let rest = open;
  let next: number | null = null;
  const look = (one: FoundLine): void => {
    if (next !== null || one.line < from || !one.text.toLowerCase().includes(wanted)) return;
    if (found.length === limit) next = one.line;
    else found.push({ line: one.line, text: one.text.slice(0, shown) });
  };
  for (const chunk of chunks) {
    // A gap lies between: what stood before it is a line of its own.
    if (rest && rest.line !== chunk.firstLine) {
      look(rest);
      rest = null;
    }
    const { buffer, byteOffset, byteLength } = chunk.bytes;
    const bytes = Buffer.from(buffer, byteOffset, byteLength);
    const first = bytes.indexOf(10);
    // Most pieces have nothing that is looked for, between their first line and their last: that is seen at once.
    const without = sure !== '' && !bytes.includes(sure, 0, 'latin1');
    const text = without ? '' : bytes.toString('utf8');
    if (first >= 0 && (without || !text.toLowerCase().includes(wanted))) {
      if (rest) look({ line: rest.line, text: (rest.text + bytes.toString('utf8', 0, first)).slice(0, looked) });
      const last = bytes.toString('utf8', bytes.lastIndexOf(10) + 1);
      rest = last === '' ? null : { line: chunk.firstLine + countLines(chunk.bytes), text: last };
      if (next !== null) break;
      continue;
    }
    const pieces = (without ? bytes.toString('utf8') : text).split('\n');
    for (const [at, piece] of pieces.entries()) {
      const line: FoundLine =
        at === 0 && rest
          ? { line: rest.line, text: (rest.text + piece).slice(0, looked) }
          : { line: chunk.firstLine + at, text: piece };
      if (at < pieces.length - 1) look(line);
      else rest = line.text === '' ? null : line;
    }
    if (next !== null) break;
  }
  return { found, rest, next };
}
