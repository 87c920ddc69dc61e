/** Public keys of releases: JWK Sets (RFC 7517) of Ed25519 keys (RFC 8037), or PEM. */
import { createPublicKey, type KeyObject } from 'node:crypto';
import { CodedError } from '../errors/errors.js';
import { keyIdOf } from './envelope.js';

export interface PublicJwk {
  kty: 'OKP';
  crv: 'Ed25519';
  /** The key's 32 bytes, base64url. */
  x: string;
  use: 'sig';
  alg: 'EdDSA';
  /** As envelopes name it. */
  kid: string;
}

/** Keys that are looked at in one set. */
const mostKeys = 100;

export function jwkOf(key: KeyObject): PublicJwk {
  const { x } = key.export({ format: 'jwk' });
  return { kty: 'OKP', crv: 'Ed25519', x: x as string, use: 'sig', alg: 'EdDSA', kid: keyIdOf(key) };
}

/** The key whose 32 bytes these are, in base64url. @throws `export_key` */
export function keyOf(x: string): KeyObject {
  try {
    return createPublicKey({ key: { kty: 'OKP', crv: 'Ed25519', x }, format: 'jwk' });
  } catch (error) {
    throw new CodedError('export_key', { what: x.slice(0, 50), why: 'it is no key of Ed25519' }, error);
  }
}

/**
 * The keys that a text holds. Members of a set that are no Ed25519 keys are passed over.
 * @param what how the text is called, such as the name of its file
 * @throws `export_key`
 */
export function readKeys(text: string, what: string): KeyObject[] {
  const refuse = (why: string, error?: unknown) => new CodedError('export_key', { what, why }, error);
  if (/-----BEGIN [A-Z ]*PRIVATE KEY-----/.test(text)) throw refuse('it is a private key, which nobody else may have');
  try {
    if (text.includes('-----BEGIN')) {
      const key = createPublicKey(text);
      if (key.asymmetricKeyType !== 'ed25519') throw refuse(`it is of the kind ${key.asymmetricKeyType}`);
      return [key];
    }
    const { keys } = JSON.parse(text) as { keys?: unknown };
    const found = (Array.isArray(keys) ? keys : [])
      .slice(0, mostKeys)
      .filter((one) => one?.kty === 'OKP' && one.crv === 'Ed25519' && typeof one.x === 'string' && one.d === undefined)
      .map(({ x }) => keyOf(x));
    if (found.length === 0) throw refuse('it names none of Ed25519');
    return found;
  } catch (error) {
    throw error instanceof CodedError ? error : refuse('it cannot be read', error);
  }
}
