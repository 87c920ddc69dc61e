/**
 * Encryption at rest, hashes of tokens, signatures. Formats: AES-256-GCM (version 1 byte ‖ id of the key 4 bytes ‖ nonce 12 bytes ‖ tag
 * 16 bytes ‖ text; authenticated with it are the first two, and the table and row in which it is kept), HMAC-SHA-256, Ed25519.
 */
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
  existsSync,
  linkSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';

export interface Keys {
  /** `place`: where it is kept (`sealedPlace`). Moved to another row it cannot be read. */
  encrypt(text: string, place: string): Buffer;
  decrypt(sealed: Buffer, place: string): string;
  /** Keyed hash (HMAC-SHA-256, hexadecimal): the same for the same text, and nothing to be guessed from without the key. */
  hash(text: string): string;
  /** What everything begins with that is encrypted with the present key: version and id. */
  head(): Buffer;
  /** Makes a new key, with which everything is encrypted from now on. What was encrypted before can be read until `forgetOlder`. */
  renew(): void;
  /** How many keys there are beside the present one. */
  older(): number;
  /** Removes the older keys where the present one is older than `forMs` milliseconds; how many were removed. `time`: now, in milliseconds. */
  forgetOlder(forMs: number, time?: number): number;
  sign(bytes: Buffer): Buffer;
  verify(bytes: Buffer, signature: Buffer): boolean;
  publicKey: KeyObject;
}

/** The first byte of what is encrypted. */
const version = 1;
/** Bytes of a key's id, of a nonce, of a tag. */
const [idBytes, nonceBytes, tagBytes] = [4, 12, 16];

const idOf = (secret: Buffer): Buffer =>
  createHash('sha256').update('data key\0').update(secret).digest().subarray(0, idBytes);
const headOf = (secret: Buffer): Buffer => Buffer.concat([Buffer.of(version), idOf(secret)]);

/**
 * Opens the keys in `folder`, or makes them (files of mode 0600). Two services that begin at once end up with the same keys. Each key of
 * data has a file of its own, `data-ID.key`, for as long as anything is encrypted with it; `data.key` is the one that is encrypted with.
 */
export function openKeys(folder: string): Keys {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const current = join(folder, 'data.key');
  keptFile(current, () => randomBytes(32));
  const hashing = keptFile(join(folder, 'hash.key'), () => randomBytes(32));
  const fileOf = (secret: Buffer) => join(folder, `data-${idOf(secret).toString('hex')}.key`);
  const keep = (secret: Buffer) => void keptFile(fileOf(secret), () => secret);
  // Read each time: another service of the same data may have renewed it.
  const now = () => readFileSync(current);
  const ring = (): Buffer[] =>
    readdirSync(folder)
      .filter((name) => /^data-[0-9a-f]{8}\.key$/.test(name))
      .map((name) => readFileSync(join(folder, name)));
  keep(now());
  const signing = createPrivateKey(
    keptFile(join(folder, 'signing.pem'), () =>
      generateKeyPairSync('ed25519').privateKey.export({ type: 'pkcs8', format: 'pem' }),
    ),
  );
  const publicKey = createPublicKey(signing);
  return {
    encrypt(text, place) {
      const secret = now();
      const [head, nonce] = [headOf(secret), randomBytes(nonceBytes)];
      const cipher = createCipheriv('aes-256-gcm', secret, nonce).setAAD(aadOf(head, place));
      const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
      return Buffer.concat([head, nonce, cipher.getAuthTag(), body]);
    },
    decrypt(sealed, place) {
      const named = ring().find((secret) => headOf(secret).equals(sealed.subarray(0, 1 + idBytes)));
      const found = named ? opened(named, sealed.subarray(1 + idBytes), aadOf(headOf(named), place)) : null;
      if (found === null) throw new Error('no key opens this');
      return found;
    },
    hash: (text) => createHmac('sha256', hashing).update(text).digest('hex'),
    head: () => headOf(now()),
    renew() {
      const fresh = randomBytes(32);
      // A file of its own first: what is encrypted with it from the next line on can be read, whatever else happens here.
      keep(fresh);
      const next = `${current}.${process.pid}.${randomBytes(4).toString('hex')}`;
      writeFileSync(next, fresh, { mode: 0o600, flush: true });
      renameSync(next, current);
    },
    older: () => ring().filter((secret) => !secret.equals(now())).length,
    forgetOlder(forMs, time = Date.now()) {
      // Until then what was encrypted before the renewal may still be written.
      if (time - statSync(current).mtimeMs < forMs) return 0;
      const gone = ring().filter((secret) => !secret.equals(now()));
      for (const secret of gone) rmSync(fileOf(secret), { force: true });
      return gone.length;
    },
    sign: (bytes) => sign(null, bytes, signing),
    verify: (bytes, signature) => verify(null, bytes, publicKey, signature),
    publicKey,
  };
}

/** What is authenticated besides the text. */
const aadOf = (head: Buffer, place: string): Buffer => Buffer.concat([head, Buffer.from(place)]);

/** The text of nonce, tag and data; null where this key does not open it. */
function opened(secret: Buffer, sealed: Buffer, aad: Buffer): string | null {
  try {
    const decipher = createDecipheriv('aes-256-gcm', secret, sealed.subarray(0, nonceBytes), {
      authTagLength: tagBytes,
    });
    decipher.setAAD(aad);
    decipher.setAuthTag(sealed.subarray(nonceBytes, nonceBytes + tagBytes));
    return Buffer.concat([decipher.update(sealed.subarray(nonceBytes + tagBytes)), decipher.final()]).toString('utf8');
  } catch {
    // GCM tells a wrong key, and bytes that were changed.
    return null;
  }
}

function keptFile(path: string, make: () => Buffer | string): Buffer {
  if (!existsSync(path)) {
    const fresh = `${path}.${process.pid}.${randomBytes(4).toString('hex')}`;
    writeFileSync(fresh, make(), { mode: 0o600, flush: true });
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
