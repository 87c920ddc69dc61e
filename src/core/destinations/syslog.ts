/** Lines as syslog messages (RFC 5424), framed by their length (RFC 6587, 3.4.1; RFC 5425, 4.3). */
import type { LogLine, LogSource } from './lines.js';

/** Facility local0, severity informational: what a program prints says no more of itself. */
const priority = 16 * 8 + 6;
/** Bytes of a message's text: receivers commonly take 8 KiB in all. */
const longest = 7_000;
/** Number for structured data of one's own in documents and by whoever has none (RFC 5612). */
const enterprise = 32473;

/** One frame a message; a line that is too long is several, each of which says which. */
export function syslogFrames(source: LogSource, lines: readonly LogLine[]): Buffer[] {
  const host = printable(source.host, 255);
  const name = printable(source.part, 48);
  const process = printable(source.instance, 128);
  const facts = Object.entries({
    project: source.project,
    environment: source.environment,
    part: source.part,
    release: source.release,
  })
    .map(([key, value]) => ` ${key}="${value.replace(/["\\\]]/g, '\\$&')}"`)
    .join('');
  return lines.flatMap(({ at, text, number }) => {
    const pieces = cut(Buffer.from(text, 'utf8'));
    return pieces.map((piece, index) => {
      const which = pieces.length === 1 ? '' : ` piece="${index + 1}/${pieces.length}"`;
      const head = `<${priority}>1 ${new Date(at).toISOString()} ${host} ${name} ${process} - [log@${enterprise}${facts} line="${number}"${which}] `;
      const bytes = Buffer.concat([Buffer.from(head, 'utf8'), piece]);
      return Buffer.concat([Buffer.from(`${bytes.length} `), bytes]);
    });
  });
}

/** Pieces that end between letters. */
function cut(bytes: Buffer): Buffer[] {
  const pieces: Buffer[] = [];
  let begin = 0;
  while (bytes.length - begin > longest) {
    let end = begin + longest;
    while (((bytes[end] as number) & 0xc0) === 0x80) end--;
    pieces.push(bytes.subarray(begin, end));
    begin = end;
  }
  return [...pieces, bytes.subarray(begin)];
}

/** PRINTUSASCII of a limited length, or the nil value. */
const printable = (text: string, most: number): string => text.replace(/[^!-~]/g, '?').slice(0, most) || '-';
