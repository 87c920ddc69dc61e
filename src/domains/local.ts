/** The service's own authority: certificates for places that no public authority reaches. Who is to trust it installs its root. */
import { createPrivateKey, randomBytes, webcrypto } from 'node:crypto';
import * as x509 from '@peculiar/x509';
import { type Certified, freshKey, readCertificate } from './certificate.js';

const day = 24 * 3_600_000;
const rootMs = 3_650 * day;
const certificateMs = 90 * day;
/** Clocks differ. */
const earlierMs = 3_600_000;

const curve = { name: 'ECDSA', namedCurve: 'P-256' };
const signing = { ...curve, hash: 'SHA-256' };
x509.cryptoProvider.set(webcrypto as never);

/** A positive serial number of 127 random bits (RFC 5280, 4.1.2.2). */
function serial(): string {
  const bytes = randomBytes(16);
  bytes[0] = ((bytes[0] as number) & 0x7f) | 0x40;
  return bytes.toString('hex');
}

async function keysOf(pem: string): Promise<{ privateKey: webcrypto.CryptoKey; publicKey: webcrypto.CryptoKey }> {
  const jwk = createPrivateKey(pem).export({ format: 'jwk' });
  const { d: _secret, ...open } = jwk;
  return {
    privateKey: await webcrypto.subtle.importKey('jwk', jwk, curve, true, ['sign']),
    publicKey: await webcrypto.subtle.importKey('jwk', open, curve, true, ['verify']),
  };
}

/** A fresh authority: its key (PKCS #8) and its certificate, both PEM. */
export async function makeRoot(now: number): Promise<{ key: string; root: string }> {
  const key = freshKey();
  const root = await x509.X509CertificateGenerator.createSelfSigned({
    serialNumber: serial(),
    name: `CN=Tsunagi local authority ${randomBytes(3).toString('hex')}`,
    notBefore: new Date(now - earlierMs),
    notAfter: new Date(now + rootMs),
    keys: await keysOf(key),
    signingAlgorithm: signing,
    extensions: [
      new x509.BasicConstraintsExtension(true, 0, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign | x509.KeyUsageFlags.cRLSign, true),
    ],
  });
  return { key, root: `${root.toString('pem')}\n` };
}

/** A certificate of one host. */
export async function signLocally(
  authority: { key: string; root: string },
  host: string,
  now: number,
): Promise<Certified> {
  const key = freshKey();
  const root = new x509.X509Certificate(authority.root);
  const certificate = await x509.X509CertificateGenerator.create({
    serialNumber: serial(),
    subject: `CN=${host.slice(0, 64)}`,
    issuer: root.subject,
    notBefore: new Date(now - earlierMs),
    notAfter: new Date(now + certificateMs),
    publicKey: (await keysOf(key)).publicKey,
    signingKey: (await keysOf(authority.key)).privateKey,
    signingAlgorithm: signing,
    extensions: [
      new x509.BasicConstraintsExtension(false, undefined, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.digitalSignature, true),
      new x509.ExtendedKeyUsageExtension([x509.ExtendedKeyUsage.serverAuth]),
      new x509.SubjectAlternativeNameExtension([{ type: 'dns', value: host }]),
      await x509.AuthorityKeyIdentifierExtension.create(root),
    ],
  });
  return readCertificate(`${certificate.toString('pem')}\n${authority.root}`, key);
}
