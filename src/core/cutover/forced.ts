/**
 * Whoever is let sees one side of a cutover first, whatever their share: a release's number and an end, signed. Written into a header,
 * or kept as a cookie by whoever follows a link.
 */
import { createHmac, timingSafeEqual } from 'node:crypto';

export const forcedHeader = 'tsunagi-release';
/** Where a link leads: the cookie is set, and one goes on to the first page. */
export const forcedPath = '/.well-known/tsunagi-release';
export const forcedMs = 24 * 3_600_000;

const signed = (key: string, host: string, text: string): string =>
  createHmac('sha256', key).update(`${host} ${text}`).digest('base64url').slice(0, 32);

/** `r57.1790000000.…`; `until` in seconds since the epoch. */
export function forcedText(key: string, host: string, release: string, until: number): string {
  const text = `${release}.${Math.floor(until)}`;
  return `${text}.${signed(key, host, text)}`;
}

/** The release that it names (`r57`); null: it is none of ours, or over. `now` in milliseconds. */
export function forcedRelease(key: string, host: string, given: string, now: number): string | null {
  const found = /^(r[1-9]\d{0,8})\.(\d{1,12})\.([\w-]{32})$/.exec(given);
  if (!found || Number(found[2]) * 1_000 < now) return null;
  const [proof, expected] = [
    Buffer.from(found[3] as string),
    Buffer.from(signed(key, host, `${found[1]}.${found[2]}`)),
  ];
  return proof.length === expected.length && timingSafeEqual(proof, expected) ? (found[1] as string) : null;
}
