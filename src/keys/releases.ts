/**
 * The keys that vouch for releases when they leave the house (Ed25519): the one that signs now, and the public ones of all that ever
 * did. Files: `release.pem` (PKCS #8, mode 0600) and `released/KEYID.pem` (SubjectPublicKeyInfo).
 */
import { createPrivateKey, createPublicKey, generateKeyPairSync, type KeyObject, randomBytes } from 'node:crypto';
import { existsSync, linkSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { keyIdOf } from '../core/release/envelope.js';

export interface ReleaseKeys {
  /** The private key that signs now. */
  current(): KeyObject;
  /** Public keys, that of the current one first. */
  all(): KeyObject[];
  /** Makes another key, which signs from now on; gives its name. What was signed before can still be checked. */
  rotate(): string;
}

export function openReleaseKeys(folder: string): ReleaseKeys {
  const signing = join(folder, 'release.pem');
  const known = join(folder, 'released');
  mkdirSync(known, { recursive: true, mode: 0o700 });

  /** Its public half is kept before anything can be signed with it. */
  const make = (): { path: string; kept: string; id: string } => {
    const { privateKey, publicKey } = generateKeyPairSync('ed25519');
    const id = keyIdOf(publicKey);
    const path = `${signing}.${process.pid}.${randomBytes(4).toString('hex')}`;
    const kept = join(known, `${id}.pem`);
    writeFileSync(`${path}.public`, publicKey.export({ type: 'spki', format: 'pem' }), { mode: 0o600 });
    renameSync(`${path}.public`, kept);
    writeFileSync(path, privateKey.export({ type: 'pkcs8', format: 'pem' }), { mode: 0o600 });
    return { path, kept, id };
  };

  if (!existsSync(signing)) {
    const { path, kept } = make();
    try {
      // Of two services that begin at once the first one's is taken.
      linkSync(path, signing);
    } catch (error) {
      rmSync(kept, { force: true });
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
    } finally {
      rmSync(path, { force: true });
    }
  }
  // Read each time: another service of the same data may have made another one.
  const current = () => createPrivateKey(readFileSync(signing));
  return {
    current,
    all() {
      const now = keyIdOf(current());
      const ids = readdirSync(known)
        .filter((name) => name.endsWith('.pem'))
        .map((name) => name.slice(0, -'.pem'.length))
        .sort((a, b) => Number(b === now) - Number(a === now) || (a < b ? -1 : 1));
      return ids.map((id) => createPublicKey(readFileSync(join(known, `${id}.pem`))));
    },
    rotate() {
      const { path, id } = make();
      renameSync(path, signing);
      return id;
    },
  };
}
