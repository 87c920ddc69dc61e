/** Definitions that were written by others: read in a thread of their own where that may take long. */
import { type Parsed, parseDefinition } from '../../core/definition/parse.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import type { Context } from '../context.js';

/** Bytes that are read at once: a few milliseconds. */
const little = 8 * 1024;

/** `whom` is who has one at a time: a project, a caller. One that takes too long is an issue of its own. */
export async function parseApart(
  context: Pick<Context, 'apart'>,
  whom: string,
  text: string | Uint8Array,
): Promise<Parsed> {
  if (Buffer.byteLength(text) <= little) return parseDefinition(text);
  try {
    return await context.apart.run('definition', whom, { text });
  } catch (error) {
    if (!(error instanceof CodedError) || error.issue.code !== 'definition_slow') throw error;
    const place = { line: 1, column: 1, endLine: 1, endColumn: 1, severity: 'error' as const };
    return { definition: null, issues: [{ ...issue('definition_slow', error.issue.data), ...place }] };
  }
}
