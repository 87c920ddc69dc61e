/**
 * Signed statements: DSSE (Dead Simple Signing Envelope, protocol and envelope 1.0) around an in-toto statement (in-toto Attestation
 * Framework, Statement v1). What is signed is the pre-authentication encoding of type and bytes, so that nothing is read of what was not
 * signed. Keys are Ed25519 (RFC 8032); a key is named by the SHA-256 of its SubjectPublicKeyInfo (RFC 5280), in hexadecimal digits.
 */
import { createHash, createPublicKey, type KeyObject, sign, verify } from 'node:crypto';

export const statementType = 'application/vnd.in-toto+json';

export interface Envelope {
  payloadType: string;
  /** Base64. */
  payload: string;
  signatures: { keyid: string; sig: string }[];
}

export interface Statement {
  _type: 'https://in-toto.io/Statement/v1';
  /** What it is about; digests by algorithm, in hexadecimal digits. */
  subject: { name: string; digest: Record<string, string> }[];
  predicateType: string;
  predicate: Record<string, unknown>;
}

/** `DSSEv1 LENGTH TYPE LENGTH BYTES`, lengths in bytes. */
function encoded(type: string, bytes: Buffer): Buffer {
  return Buffer.concat([Buffer.from(`DSSEv1 ${Buffer.byteLength(type)} ${type} ${bytes.length} `), bytes]);
}

export const keyIdOf = (key: KeyObject): string =>
  createHash('sha256')
    .update((key.type === 'public' ? key : createPublicKey(key)).export({ type: 'spki', format: 'der' }))
    .digest('hex');

/** Signs with each of these private keys. */
export function seal(statement: Statement, keys: readonly KeyObject[]): Envelope {
  const bytes = Buffer.from(JSON.stringify(statement));
  return {
    payloadType: statementType,
    payload: bytes.toString('base64'),
    signatures: keys.map((key) => ({
      keyid: keyIdOf(key),
      sig: sign(null, encoded(statementType, bytes), key).toString('base64'),
    })),
  };
}

export type Opened =
  | { statement: Statement; keyid: string }
  /** `form`: it is no envelope with a statement. `key`: none of these keys has signed it. `signature`: one is named, and did not. */
  | { why: 'form' | 'key' | 'signature' };

/** Signatures that are looked at: an envelope comes from anybody. */
const mostSignatures = 16;
const base64 = /^(?:[A-Za-z0-9+/]{4})*(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?$/;

/**
 * Opens an envelope by keys that are known to whoever asks, never by one that comes with it. The statement is read only when a
 * signature holds; a keyid is a hint alone: it chooses the key, and proves nothing.
 */
export function open(envelope: unknown, keys: readonly KeyObject[]): Opened {
  const given = envelope as Partial<Envelope> | null;
  if (
    typeof given !== 'object' ||
    given?.payloadType !== statementType ||
    typeof given.payload !== 'string' ||
    !base64.test(given.payload) ||
    !Array.isArray(given.signatures)
  )
    return { why: 'form' };
  const bytes = Buffer.from(given.payload, 'base64');
  const known = new Map(keys.map((key) => [keyIdOf(key), key]));
  let why: 'key' | 'signature' = 'key';
  for (const one of given.signatures.slice(0, mostSignatures) as unknown[]) {
    const { keyid, sig } = (one ?? {}) as { keyid?: unknown; sig?: unknown };
    const key = typeof keyid === 'string' ? known.get(keyid) : undefined;
    if (!key || typeof sig !== 'string' || !base64.test(sig)) continue;
    why = 'signature';
    if (!verify(null, encoded(given.payloadType, bytes), key, Buffer.from(sig, 'base64'))) continue;
    const statement = statementOf(bytes);
    return statement ? { statement, keyid: keyid as string } : { why: 'form' };
  }
  return { why };
}

function statementOf(bytes: Buffer): Statement | null {
  let read: Partial<Statement>;
  try {
    read = JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(bytes)) as Partial<Statement>;
  } catch {
    return null;
  }
  const named = (one: unknown): boolean => {
    const { name, digest } = (one ?? {}) as { name?: unknown; digest?: unknown };
    return (
      typeof name === 'string' &&
      typeof digest === 'object' &&
      digest !== null &&
      Object.values(digest).every((value) => typeof value === 'string' && /^[0-9a-f]+$/.test(value))
    );
  };
  return typeof read === 'object' &&
    read?._type === 'https://in-toto.io/Statement/v1' &&
    Array.isArray(read.subject) &&
    read.subject.length > 0 &&
    read.subject.every(named) &&
    typeof read.predicateType === 'string' &&
    typeof read.predicate === 'object' &&
    read.predicate !== null
    ? (read as Statement)
    : null;
}
