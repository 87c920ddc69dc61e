/** Lines of a program's log, on their way to somewhere else. */

export interface LogLine {
  /** Milliseconds since the epoch at which it came in. */
  at: number;
  text: string;
  /** From 1, in the log of its instance. */
  number: number;
}

/** Whose lines they are. */
export interface LogSource {
  project: string;
  environment: string;
  /** The environment's given name, as a host. */
  host: string;
  part: string;
  /** `api.1` */
  instance: string;
  release: string;
}

export interface LogBatch {
  source: LogSource;
  lines: LogLine[];
}

/** Bytes after which a line that has not ended goes on as one of its own. */
export const longestLine = 64 * 1024;

export interface Piece {
  at: number;
  bytes: Buffer;
  /** Number of the first line, from 1. */
  firstLine: number;
}

/**
 * Lines of pieces that follow each other, and how many bytes they are. What has no end yet is left for later, unless nothing more can
 * come (`ended`) or it is too long to wait.
 */
export function linesOf(pieces: readonly Piece[], ended: boolean): { lines: LogLine[]; bytes: number } {
  const lines: LogLine[] = [];
  let taken = 0;
  let rest = Buffer.alloc(0);
  let at = 0;
  let number = 1;
  const put = (bytes: Buffer) => {
    lines.push({ at, number, text: bytes.toString('utf8').replace(/\r$/, '') });
  };
  for (const piece of pieces) {
    if (rest.length === 0) ({ at, firstLine: number } = piece);
    let begin = 0;
    for (let end = piece.bytes.indexOf(10); end >= 0; end = piece.bytes.indexOf(10, begin)) {
      const line = piece.bytes.subarray(begin, end);
      taken += rest.length + line.length + 1;
      put(rest.length ? Buffer.concat([rest, line]) : line);
      rest = Buffer.alloc(0);
      begin = end + 1;
      number++;
      at = piece.at;
    }
    rest = Buffer.concat([rest, piece.bytes.subarray(begin)]);
    while (rest.length > longestLine) {
      // Not within a letter: one that follows it has its first two bits set to 10.
      let cut = longestLine;
      while (cut > longestLine - 4 && ((rest[cut] as number) & 0xc0) === 0x80) cut--;
      put(rest.subarray(0, cut));
      taken += cut;
      rest = rest.subarray(cut);
    }
  }
  if (ended && rest.length) {
    taken += rest.length;
    put(rest);
  }
  return { lines, bytes: taken };
}
