/**
 * Texts for one reader: encrypted for the X25519 key that the reader has made (RFC 7748), by a key of one use, HKDF with SHA-256
 * (RFC 5869) and AES-256-GCM. Format: public key of one use (32 bytes) ‖ nonce (12) ‖ tag (16) ‖ text.
 */
import {
  createCipheriv,
  createDecipheriv,
  createPublicKey,
  diffieHellman,
  generateKeyPairSync,
  hkdfSync,
  type KeyObject,
  randomBytes,
} from 'node:crypto';

const info = 'tsunagi sealed 1';
/** SPKI of an X25519 key without the key itself (RFC 8410). */
const spki = Buffer.from('302a300506032b656e032100', 'hex');

export const readerKeys = (): { publicKey: KeyObject; privateKey: KeyObject } => generateKeyPairSync('x25519');

/** SPKI in DER. */
export const publicBytes = (key: KeyObject): Buffer => key.export({ type: 'spki', format: 'der' });

/** Throws when it is no such key. */
export function readPublic(bytes: Buffer): KeyObject {
  const key = createPublicKey({ key: bytes, type: 'spki', format: 'der' });
  if (key.asymmetricKeyType !== 'x25519') throw new Error('it is not a key of X25519');
  return key;
}

const secretOf = (privateKey: KeyObject, publicKey: KeyObject, once: Buffer): Buffer =>
  Buffer.from(hkdfSync('sha256', diffieHellman({ privateKey, publicKey }), once, info, 32));

export function sealFor(reader: KeyObject, text: string): Buffer {
  const { publicKey, privateKey } = readerKeys();
  const once = publicBytes(publicKey).subarray(spki.length);
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', secretOf(privateKey, reader, once), nonce);
  const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
  return Buffer.concat([once, nonce, cipher.getAuthTag(), body]);
}

/** Throws when it was sealed for another reader, or changed on its way. */
export function openSealed(privateKey: KeyObject, sealed: Buffer): string {
  const once = sealed.subarray(0, 32);
  const publicKey = readPublic(Buffer.concat([spki, once]));
  const decipher = createDecipheriv('aes-256-gcm', secretOf(privateKey, publicKey, once), sealed.subarray(32, 44), {
    authTagLength: 16,
  });
  decipher.setAuthTag(sealed.subarray(44, 60));
  return Buffer.concat([decipher.update(sealed.subarray(60)), decipher.final()]).toString('utf8');
}
