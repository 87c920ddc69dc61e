/** Certificates by ACME (RFC 8555), each name proven over HTTP (8.3). */
import { readFileSync } from 'node:fs';
import { Agent } from 'node:https';
import { rootCertificates } from 'node:tls';
import { CodedError } from '../core/errors/errors.js';
import { type Certified, freshKey, readCertificate } from './certificate.js';

export interface AcmeSettings {
  /** Address of the authority's directory. */
  directory: string;
  /** Whom the authority may write to; default: nobody. */
  contact?: string;
  /** External account binding (RFC 8555, 7.3.4): key id and key in base64url. */
  binding?: { kid: string; key: string };
  /** Path of the certificates (PEM) that its own one is checked against, besides those that every system trusts. */
  root?: string;
}

export interface Account {
  /** PKCS #8, PEM. */
  key: string;
  /** Where the account is kept; null: it is asked for first. */
  url: string | null;
}

export interface AcmeSteps {
  /** The account was made. */
  keepAccount(url: string): Promise<void>;
  /** Puts the answer down under /.well-known/acme-challenge/TOKEN of the host; it is there when this returns. */
  answer(token: string, text: string): Promise<void>;
  /** It is needed no longer. */
  withdraw(token: string): Promise<void>;
}

/** Pauses in which the authority is asked how far it is, in milliseconds: about a minute in all. */
const asks = { backoffAttempts: 15, backoffMin: 300, backoffMax: 5_000 };

/** Orders a certificate for one host. Throws `certificate_refused` or `authority_away`. */
export async function orderCertificate(
  settings: AcmeSettings,
  account: Account,
  host: string,
  steps: AcmeSteps,
): Promise<Certified> {
  const { contact, binding, directory, root } = settings;
  // Most have no such authority, and it takes its time to load.
  const { default: acme } = await import('acme-client');
  if (root) acme.axios.defaults.httpsAgent = new Agent({ ca: [...rootCertificates, readRoot(root)] });
  const client = new acme.Client({
    directoryUrl: directory,
    accountKey: account.key,
    ...(account.url ? { accountUrl: account.url } : {}),
    ...(binding ? { externalAccountBinding: { kid: binding.kid, hmacKey: binding.key } } : {}),
    ...asks,
  });
  try {
    if (!account.url) {
      await client.createAccount({
        termsOfServiceAgreed: true,
        ...(contact ? { contact: [`mailto:${contact}`] } : {}),
      });
      await steps.keepAccount(client.getAccountUrl());
    }
    const order = await client.createOrder({ identifiers: [{ type: 'dns', value: host }] });
    for (const authorization of await client.getAuthorizations(order)) {
      if (authorization.status === 'valid') continue;
      const challenge = authorization.challenges.find((one) => one.type === 'http-01');
      if (!challenge)
        throw new CodedError('certificate_refused', { name: host, detail: 'it does not offer a proof over HTTP' });
      await steps.answer(challenge.token, await client.getChallengeKeyAuthorization(challenge));
      try {
        await client.completeChallenge(challenge);
        await client.waitForValidStatus(challenge);
      } finally {
        await steps.withdraw(challenge.token);
      }
    }
    const key = freshKey();
    const [, request] = await acme.crypto.createCsr({ altNames: [host] }, key);
    const finalized = await client.finalizeOrder(order, request);
    const certified = readCertificate(await client.getCertificate(finalized), key);
    if (!certified.names.includes(host)) throw new Error('its certificate is of another name');
    return certified;
  } catch (error) {
    throw inWords(error, host);
  }
}

/** Read for each order: it may be renewed. */
function readRoot(path: string): string {
  try {
    return readFileSync(path, 'utf8');
  } catch (error) {
    throw new CodedError('authority_away', { detail: `its root cannot be read: ${(error as Error).message}` });
  }
}

function inWords(error: unknown, host: string): CodedError {
  if (error instanceof CodedError) return error;
  const { code, message, isAxiosError } = error as NodeJS.ErrnoException & { isAxiosError?: boolean };
  const detail = String(message).split('\n')[0]?.slice(0, 300) ?? '';
  return code !== undefined || isAxiosError
    ? new CodedError('authority_away', { detail }, error)
    : new CodedError(
        'certificate_refused',
        { name: host, detail: /[.!?]$/.test(detail) ? detail : `${detail}.` },
        error,
      );
}
