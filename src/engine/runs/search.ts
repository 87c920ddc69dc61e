/** Lines of a log that have a text in them: read piece by piece, looked through apart. */
import type { FoundLine } from '../../core/lines.js';
import type { JobOutput } from '../apart/jobs.js';
import { readPacked } from '../../records/runs/logs.js';
import type { Context } from '../context.js';

const chunksAtOnce = 32;

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
  for (let position = 0; ; ) {
    const chunks = await readPacked(context.records, stream, position, chunksAtOnce);
    const last = chunks.at(-1);
    const over = chunks.length < chunksAtOnce;
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
    if (last) position = last.position + last.bytes;
    if (!over) continue;
    if (rest && rest.line >= from && rest.text.toLowerCase().includes(text.toLowerCase())) {
      if (found.length === limit) return { found, next: rest.line };
      found.push({ line: rest.line, text: rest.text.slice(0, 400) });
    }
    return { found, next: null };
  }
}
