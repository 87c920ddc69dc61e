/** Work that reads a database of programs: it is held meanwhile, and gives way to a deployment that is about to change tables. */
import type { Db } from '../../records/database.js';
import { prepares } from '../../records/resources/backups.js';

/** Milliseconds between two looks at whether a deployment wants the locks. */
const lookMs = 1_000;

/** `hold` says whether it is still held. Whoever changes tables would wait for whoever reads them, and everybody else for that change. */
export async function whileGiving<T>(
  records: Db,
  { resource, hold }: { resource: string | null; hold: () => Promise<boolean> },
  work: (given: AbortSignal) => Promise<T>,
): Promise<T> {
  const given = new AbortController();
  const looking = setInterval(
    () =>
      void (async () => {
        if (!(await hold()) || (resource !== null && (await prepares(records, resource)))) given.abort();
      })().catch(() => {}),
    lookMs,
  );
  try {
    return await work(given.signal);
  } finally {
    clearInterval(looking);
  }
}
