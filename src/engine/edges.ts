/** Edges that take a change of the table over. */
import { hasTable, listEdges } from '../records/callers/edges.js';
import type { Db } from './context.js';

/**
 * Waits until every edge that is alive has a host's table of a version, `ms` at most, looking every `everyMs` milliseconds. Gives the
 * names of those that have not.
 */
export async function untilEdgesHave(
  db: Db,
  { host, version }: { host: string; version: number },
  { ms, everyMs }: { ms: number; everyMs: number },
): Promise<string[]> {
  const deadline = Date.now() + ms;
  for (;;) {
    const without = (await listEdges(db)).filter((edge) => edge.alive && !hasTable(edge, host, version).has);
    if (without.length === 0 || Date.now() > deadline) return without.map((edge) => edge.name);
    await new Promise((resolve) => setTimeout(resolve, everyMs));
  }
}
