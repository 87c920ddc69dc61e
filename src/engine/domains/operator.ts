/** An operator's certificates: files of a folder that is looked at again and again, so that they can be renewed by whatever renews them. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { type Certified, readCertificate } from '../../domains/certificate.js';
import { addCertificate, hasChain, noteRead, removeOthers, removeUnread } from '../../records/domains/certificates.js';
import { wakeAnswered } from '../../records/domains/addresses.js';
import type { Context } from '../context.js';

/** Milliseconds between two looks. */
export const folderEvery = 60_000;
/** Certificates that are read of one folder. */
const most = 500;

export function watchFolder(context: Context): () => Promise<boolean> {
  const { folder } = context.names;
  let seen: string | null = null;
  let complained = '';
  return async () => {
    if (folder === null) {
      await context.records.transition('certificates.unread', async (db) => {
        if (await removeUnread(db)) await wakeAnswered(db);
      });
      return false;
    }
    const { found, wrong } = readFolder(folder);
    if (wrong.join('\n') !== complained) for (const words of wrong) context.log.warn({ folder }, words);
    complained = wrong.join('\n');
    const chains = found.map((one) => one.chain);
    const known = await noteRead(context.records, chains);
    if (seen === chains.join('\n') && known >= new Set(chains).size) return false;
    // One that can't be read just now, or whose name is wrong, takes nothing from those that are used.
    await context.records.transition('certificates.read', async (db) => {
      for (const one of found)
        if (!(await hasChain(db, one.chain))) {
          const id = newId();
          const sealed = context.keys.encrypt(one.key, sealedPlace('certificates', id));
          await addCertificate(db, { ...one, id, source: 'operator', sealed });
        }
      if (wrong.length === 0) await removeOthers(db, chains);
      await wakeAnswered(db);
    });
    seen = chains.join('\n');
    return false;
  };
}

function readFolder(folder: string): { found: Certified[]; wrong: string[] } {
  const found: Certified[] = [];
  const wrong: string[] = [];
  let names: string[] = [];
  try {
    names = readdirSync(folder)
      .filter((name) => name.endsWith('.crt'))
      .sort()
      .slice(0, most);
  } catch (error) {
    wrong.push(`the folder of certificates cannot be read: ${(error as Error).message}`);
  }
  for (const name of names) {
    const path = join(folder, name);
    try {
      found.push(readCertificate(readFileSync(path, 'utf8'), readFileSync(path.replace(/\.crt$/, '.key'), 'utf8')));
    } catch (error) {
      wrong.push(`the certificate in ${path} cannot be used: ${(error as Error).message}`);
    }
  }
  return { found, wrong };
}
