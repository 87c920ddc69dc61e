/**
 * Signed events, in and out, by the open specification for webhooks with three headers: `webhook-id`, `webhook-timestamp` (seconds)
 * and `webhook-signature` (`v1,BASE64`, several with spaces between), an HMAC-SHA-256 over `ID.SECONDS.BODY`.
 */
import { randomBytes, timingSafeEqual } from 'node:crypto';
import { Webhook } from 'standardwebhooks';

/** Milliseconds by which a signature's time may differ from the clock. */
export const signatureWindow = 5 * 60_000;

/** What headers of this specification begin with; the rest of a request's headers is of no concern. */
export type Headers = Readonly<Record<string, string | string[] | undefined>>;

const secretPrefix = 'whsec_';

/** A secret as the specification writes it: 32 random bytes in Base64 behind `whsec_`. */
export const newEventSecret = (): string => secretPrefix + randomBytes(32).toString('base64');

/** Any other text is a key as it stands. */
const webhook = (secret: string): Webhook =>
  secret.startsWith(secretPrefix) ? new Webhook(secret) : new Webhook(secret, { format: 'raw' });

/** The headers of an event; `id` is the same each time it is sent. */
export function signEvent(secret: string, id: string, body: string | Buffer, now: number): Record<string, string> {
  const seconds = Math.floor(now / 1000);
  return {
    'webhook-id': id,
    'webhook-timestamp': String(seconds),
    'webhook-signature': webhook(secret).sign(id, new Date(seconds * 1000), body),
  };
}

/** `old`: rightly signed, at a time too far from now. Never throws. */
export function checkEvent(
  secret: string,
  headers: Headers,
  body: string | Buffer,
  now: number,
): 'good' | 'wrong' | 'old' {
  const text = (name: string): string => String(headers[name] ?? '');
  const [id, time] = [text('webhook-id'), text('webhook-timestamp')];
  if (id === '' || id.length > 300 || !/^\d{1,12}$/.test(time)) return 'wrong';
  const expected = Buffer.from(webhook(secret).sign(id, new Date(Number(time) * 1000), body));
  const same = (one: string): boolean => {
    const given = Buffer.from(one);
    return given.length === expected.length && timingSafeEqual(given, expected);
  };
  // Several while a secret is changed; of more than a few nobody is right.
  if (!text('webhook-signature').split(' ').slice(0, 8).some(same)) return 'wrong';
  return Math.abs(now - Number(time) * 1000) <= signatureWindow ? 'good' : 'old';
}
