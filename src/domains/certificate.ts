/** Certificates as PEM (RFC 7468): what one says, and whether it and its key can be used. */
import { createPrivateKey, createPublicKey, generateKeyPairSync, type KeyObject, X509Certificate } from 'node:crypto';

export interface Certified {
  /** Names of hosts, lower case; one may stand for a label: `*.example`. */
  names: string[];
  /** PEM, its own first. */
  chain: string;
  /** PKCS #8, PEM. */
  key: string;
  issuer: string;
  from: Date;
  until: Date;
}

const block = /-----BEGIN CERTIFICATE-----[A-Za-z0-9+/=\s]+-----END CERTIFICATE-----/g;

/** A fresh key for a certificate (ECDSA, P-256). */
export const freshKey = (): string =>
  generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ type: 'pkcs8', format: 'pem' }) as string;

/** Reads a chain and its key; throws an `Error` that says what is wrong with them. */
export function readCertificate(chain: string, key: string): Certified {
  const blocks = chain.match(block) ?? [];
  if (blocks.length === 0) throw new Error('there is no certificate in it');
  if (blocks.length > 10) throw new Error('it has more than ten certificates');
  const all = blocks.map((one) => new X509Certificate(one));
  const [own] = all as [X509Certificate, ...X509Certificate[]];
  const secret = privateKey(key);
  if (!own.publicKey.equals(createPublicKey(secret))) throw new Error('the key is not that of the first certificate');
  for (const [at, one] of all.entries()) {
    const above = all[at + 1];
    if (above && !one.verify(above.publicKey)) throw new Error('its certificates do not follow each other');
  }
  const names = namesOf(own);
  if (names.length === 0) throw new Error('it names no host (subjectAltName)');
  return {
    names,
    chain: `${blocks.join('\n')}\n`,
    key: secret.export({ type: 'pkcs8', format: 'pem' }) as string,
    issuer: commonName(own.issuer),
    from: new Date(own.validFrom),
    until: new Date(own.validTo),
  };
}

function privateKey(text: string): KeyObject {
  try {
    return createPrivateKey(text);
  } catch {
    throw new Error('the key cannot be read; it must be PEM without a passphrase');
  }
}

const namesOf = (certificate: X509Certificate): string[] =>
  (certificate.subjectAltName ?? '')
    .split(', ')
    .flatMap((one) => (one.startsWith('DNS:') ? [one.slice('DNS:'.length).toLowerCase()] : []));

/** The common name of an issuer, else all that it says of itself. */
const commonName = (text: string): string =>
  (/^CN=(.+)$/m.exec(text)?.[1] ?? text.replaceAll('\n', ', ')).slice(0, 200);
