/** Encryption at rest, hashes of tokens, signatures. Formats: AES-256-GCM (nonce 12 bytes ‖ tag 16 bytes ‖ text), HMAC-SHA-256, Ed25519. */
import {
  createCipheriv,
  createDecipheriv,
  createHash,
  createHmac,
  createPrivateKey,
  createPublicKey,
  generateKeyPairSync,
  type KeyObject,
  randomBytes,
  sign,
  timingSafeEqual,
  verify,
} from 'node:crypto';
import {
  copyFileSync,
  existsSync,
  linkSync,
  mkdirSync,
  readFileSync,
  renameSync,
  rmSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';

export interface Keys {
  encrypt(text: string): Buffer;
  decrypt(sealed: Buffer): string;
  /** Keyed hash (HMAC-SHA-256, hexadecimal): the same for the same text, and nothing to be guessed from without the key. */
  hash(text: string): string;
  /** Makes a new key for data. What was encrypted before can be read until `forgetOld`. */
  renew(): void;
  forgetOld(): void;
  sign(bytes: Buffer): Buffer;
  verify(bytes: Buffer, signature: Buffer): boolean;
  publicKey: KeyObject;
}

/** Opens the keys in `folder`, or makes them (files of mode 0600). Two services that begin at once end up with the same keys. */
export function openKeys(folder: string): Keys {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const current = join(folder, 'data.key');
  const old = join(folder, 'data-old.key');
  keptFile(current, () => randomBytes(32));
  const hashing = keptFile(join(folder, 'hash.key'), () => randomBytes(32));
  // Read each time: another service of the same data may have renewed it.
  const secrets = (): Buffer[] => [current, old].filter((path) => existsSync(path)).map((path) => readFileSync(path));
  const signing = createPrivateKey(
    keptFile(join(folder, 'signing.pem'), () =>
      generateKeyPairSync('ed25519').privateKey.export({ type: 'pkcs8', format: 'pem' }),
    ),
  );
  const publicKey = createPublicKey(signing);
  return {
    encrypt(text) {
      const nonce = randomBytes(12);
      const cipher = createCipheriv('aes-256-gcm', secrets()[0] as Buffer, nonce);
      const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
      return Buffer.concat([nonce, cipher.getAuthTag(), body]);
    },
    decrypt(sealed) {
      for (const secret of secrets()) {
        try {
          const decipher = createDecipheriv('aes-256-gcm', secret, sealed.subarray(0, 12), { authTagLength: 16 });
          decipher.setAuthTag(sealed.subarray(12, 28));
          return Buffer.concat([decipher.update(sealed.subarray(28)), decipher.final()]).toString('utf8');
        } catch {
          // GCM tells a wrong key: it may be the one before.
        }
      }
      throw new Error('no key opens this');
    },
    hash: (text) => createHmac('sha256', hashing).update(text).digest('hex'),
    renew() {
      // A renewal that was cut short is gone on with: its old key opens what is not encrypted anew yet.
      if (existsSync(old) && !readFileSync(old).equals(readFileSync(current))) return;
      const fresh = `${current}.${process.pid}`;
      writeFileSync(fresh, randomBytes(32), { mode: 0o600 });
      copyFileSync(current, `${old}.${process.pid}`);
      renameSync(`${old}.${process.pid}`, old);
      renameSync(fresh, current);
    },
    forgetOld: () => rmSync(old, { force: true }),
    sign: (bytes) => sign(null, bytes, signing),
    verify: (bytes, signature) => verify(null, bytes, publicKey, signature),
    publicKey,
  };
}

function keptFile(path: string, make: () => Buffer | string): Buffer {
  if (!existsSync(path)) {
    const fresh = `${path}.${process.pid}.${randomBytes(4).toString('hex')}`;
    writeFileSync(fresh, make(), { mode: 0o600 });
    try {
      // A link is made only where nothing is: the first of two that begin at once wins, whatever the other has made.
      linkSync(fresh, path);
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
    } finally {
      rmSync(fresh, { force: true });
    }
  }
  return readFileSync(path);
}

const prefixes = { person: 'tsu_', agent: 'tsa_', edge: 'tse_', code: 'tsc_', link: 'tsl_', pass: 'tsp_' } as const;
export type SecretKind = keyof typeof prefixes;

/** A fresh token of 32 random bytes; the prefix tells its kind to a reader. */
export const newToken = (kind: SecretKind): string => prefixes[kind] + randomBytes(32).toString('base64url');

/** What is kept of a token. It has 256 random bits, so a plain hash is enough. */
export const tokenHash = (token: string): Buffer => createHash('sha256').update(token).digest();

/** Whether a text is the secret one, in a time that says nothing of where they differ. Texts of any length and letters. */
export const sameSecret = (secret: string, given: string): boolean =>
  timingSafeEqual(createHash('sha256').update(secret).digest(), createHash('sha256').update(given).digest());

/** Chained hash of a seal. */
export function sealHash(parts: string[], before: Buffer | null): Buffer {
  const hash = createHash('sha256');
  if (before) hash.update(before);
  for (const part of parts) hash.update(`${Buffer.byteLength(part)}:`).update(part);
  return hash.digest();
}
