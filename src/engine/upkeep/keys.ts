/** The key of everything that is encrypted: a new one is for what is written from then on; the rest follows in batches. */
import { lockKeys, sealAgain, type SealedRow, sealedOtherwise } from '../../records/deployments/variables.js';
import { recordEvents } from '../../records/events.js';
import { sealedPlace, type SealedTable } from '../../keys/places.js';
import type { Context, Db } from '../context.js';

/** Rows in one transaction. */
const atOnce = 100;
/** Milliseconds for which older keys stay in any case: what was encrypted with one may be written some time later. */
export const retiredMs = 3_600_000;

/** Makes a new key, and encrypts everything with it; how many secrets. Older keys stay until nothing names them (`stepKeys`). */
export async function rotateKey(context: Context, db: Db, actor: string): Promise<number> {
  // One at a time: the second would encrypt everything twice.
  await lockKeys(db);
  context.keys.renew();
  const { secrets } = await sealAll(context);
  await recordEvents(db, {
    type: 'key.rotated',
    project: null,
    subject: 'the key of secrets',
    actor,
    data: { encrypted: secrets },
  });
  return secrets;
}

/** Encrypts again what was written with an older key after the rotation, and removes keys that nothing names any more. */
export async function stepKeys(context: Context): Promise<void> {
  const { keys, log } = context;
  if (keys.older() === 0) return;
  const { unread } = await sealAll(context);
  if (unread > 0) return log.error({ rows: unread }, 'no key opens some of what is encrypted; the older keys stay');
  const gone = keys.forgetOlder(retiredMs, context.now());
  if (gone > 0) log.info({ keys: gone }, 'older keys of secrets are removed');
}

/** Each batch is a transaction of its own, and locks its rows alone. A row that no key opens stays as it is, and counts as unread. */
async function sealAll(context: Context): Promise<{ secrets: number; unread: number }> {
  const { records, keys } = context;
  let [secrets, unread] = [0, 0];
  for (;;) {
    const rows = await sealedOtherwise(records, keys.head(), unread, atOnce);
    if (rows.length === 0) return { secrets, unread };
    const done = await records.transition('key.batch', async (db) => {
      const count = { secrets: 0, unread: 0 };
      for (const row of rows) {
        const text = readOf(context, row);
        if (text === null) {
          count.unread++;
          continue;
        }
        await sealAgain(db, row, keys.encrypt(text, placeOfRow(row)));
        if (row.table !== 'answers') count.secrets++;
      }
      return count;
    });
    secrets += done.secrets;
    unread += done.unread;
  }
}

function placeOfRow({ table, project, scope, name, version }: SealedRow): string {
  const of = table as SealedTable;
  if (of === 'variables') return sealedPlace(of, project, scope, name, version);
  if (of === 'answers') return sealedPlace(of, scope, name);
  return sealedPlace(of, of === 'authorities' ? scope : project);
}

function readOf({ keys, log }: Context, row: SealedRow): string | null {
  try {
    return keys.decrypt(row.sealed, placeOfRow(row));
  } catch (error) {
    log.error({ table: row.table, row: row.project, error: String(error) }, 'what is encrypted cannot be read');
    return null;
  }
}
