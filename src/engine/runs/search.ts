/** Lines of a log that have a text in them: read piece by piece, looked through apart. */
import type { FoundLine } from '../../core/lines.js';
import type { JobOutput } from '../apart/jobs.js';
import { readPacked, readPackedSince } from '../../records/runs/logs.js';
import type { Context } from '../context.js';

const chunksAtOnce = 32;

/** Its failure is heard when it is waited for; nobody may ever do so. */
function ahead<T>(work: Promise<T>): Promise<T> {
  work.catch(() => {});
  return work;
}

/** At most `limit` lines from line `from` on, whatever the case; `next` is the line to go on with, or null at the end. `whom` is the project. */
export async function searchLog(
  context: Pick<Context, 'records' | 'apart'>,
  whom: string,
  stream: string,
  text: string,
  from: number,
  limit: number,
): Promise<{ found: FoundLine[]; next: number | null }> {
  const found: FoundLine[] = [];
  let rest: FoundLine | null = null;
  const read = (position: number) => ahead(readPacked(context.records, stream, position, chunksAtOnce));
  for (let reading = read(0); ; ) {
    const chunks = await reading;
    const last = chunks.at(-1);
    const over = !last || chunks.length < chunksAtOnce;
    if (!over) reading = read(last.position + last.bytes);
    const batch = chunks.map(({ firstLine, packed }) => ({ firstLine, packed }));
    const answer: JobOutput<'search'> = await context.apart.run('search', whom, {
      chunks: batch,
      rest,
      wanted: text.toLowerCase(),
      from,
      limit: limit - found.length,
    });
    found.push(...answer.found);
    rest = answer.rest;
    if (answer.next !== null) return { found, next: answer.next };
    if (!over) continue;
    if (rest && rest.line >= from && rest.text.toLowerCase().includes(text.toLowerCase())) {
      if (found.length === limit) return { found, next: rest.line };
      found.push({ line: rest.line, text: rest.text.slice(0, 400) });
    }
    return { found, next: null };
  }
}

/** A line of one of an environment's programs. */
export interface LoggedLine {
  instance: string;
  line: number;
  text: string;
  at: Date;
}

/**
 * Lines of several streams since a time, in the order in which they came in, those with a text alone where one is given (`''`: all). Of
 * each at most `limit`, and of all together; `more` says that there are others behind them.
 */
export async function searchStreams(
  context: Pick<Context, 'records' | 'apart'>,
  whom: string,
  streams: readonly string[],
  { since, text, limit }: { since: Date; text: string; limit: number },
): Promise<{ lines: LoggedLine[]; more: boolean }> {
  const all: LoggedLine[] = [];
  let more = false;
  for (const stream of streams) {
    let rest: FoundLine | null = null;
    let count = 0;
    const begins: { line: number; at: Date }[] = [];
    const timeOf = (line: number): Date => begins.findLast((one) => one.line <= line)?.at ?? since;
    // The next piece is read while this one is looked through.
    const read = (position: number) => ahead(readPackedSince(context.records, stream, since, position, chunksAtOnce));
    for (let reading = read(0); ; ) {
      const chunks = await reading;
      const last = chunks.at(-1);
      const over = !last || chunks.length < chunksAtOnce;
      if (!over) reading = read(last.position + last.bytes);
      for (const { firstLine, at } of chunks) begins.push({ line: firstLine, at });
      const answer: JobOutput<'search'> = await context.apart.run('search', whom, {
        chunks: chunks.map(({ firstLine, packed }) => ({ firstLine, packed })),
        rest,
        wanted: text.toLowerCase(),
        from: 0,
        limit: limit - count,
      });
      for (const one of answer.found) all.push({ ...one, instance: stream, at: timeOf(one.line) });
      count += answer.found.length;
      rest = answer.rest;
      if (answer.next !== null) more = true;
      if (answer.next !== null || over) break;
    }
    // A line that its program has not ended yet is one too.
    if (!more && rest?.text.toLowerCase().includes(text.toLowerCase()) && count < limit)
      all.push({ ...rest, text: rest.text.slice(0, 400), instance: stream, at: timeOf(rest.line) });
  }
  const sorted = all.sort((a, b) => a.at.getTime() - b.at.getTime());
  return { lines: sorted.slice(0, limit), more: more || sorted.length > limit };
}
