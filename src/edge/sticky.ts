/**
 * A visitor stays with an instance: a cookie names it, signed under a key that all edges of the environment have. It says nothing of
 * the instance itself, is good for one deployment's instances alone, and never reaches the program.
 */
import { createHash, createHmac, timingSafeEqual } from 'node:crypto';

export const stickyCookie = 'tsunagi-instance';
/** What lets somebody in, and what ties the way there to one browser; over TLS no other host can set them. */
export const passCookies = { plain: 'tsunagi-pass', secure: '__Host-tsunagi-pass' } as const;
export const doorCookies = { plain: 'tsunagi-door', secure: '__Host-tsunagi-door' } as const;
/** On which side a visitor is while the traffic moves. */
export const visitorCookies = { plain: 'tsunagi-visitor', secure: '__Host-tsunagi-visitor' } as const;
/** Of whoever sees one side first. */
export const forcedCookies = { plain: 'tsunagi-release', secure: '__Host-tsunagi-release' } as const;
const ourCookies: ReadonlySet<string> = new Set([
  stickyCookie,
  ...Object.values(passCookies),
  ...Object.values(doorCookies),
  ...Object.values(visitorCookies),
  ...Object.values(forcedCookies),
]);

const named = (instance: string): string => createHash('sha256').update(instance).digest('base64url').slice(0, 12);
const signed = (key: string, name: string): string =>
  createHmac('sha256', key).update(name).digest('base64url').slice(0, 22);

/** The cookie's value for an instance. */
export const cookieFor = (key: string, instance: string): string =>
  `${named(instance)}.${signed(key, named(instance))}`;

/** The instance that a visitor's cookies name, where it is one of these. */
export function stuckTo<T extends { id: string }>(
  key: string,
  header: string | undefined,
  instances: readonly T[],
): T | null {
  const value = cookiesOf(header).find(([name]) => name === stickyCookie)?.[1];
  const [name = '', proof = ''] = (value ?? '').split('.');
  const [given, expected] = [Buffer.from(proof), Buffer.from(signed(key, name))];
  if (given.length !== expected.length || !timingSafeEqual(given, expected)) return null;
  return instances.find((one) => named(one.id) === name) ?? null;
}

/** A Cookie header without ours; null when nothing is left of it. */
export function withoutOurs(header: string): string | null {
  const left = cookiesOf(header).filter(([name]) => !ourCookies.has(name));
  return left.length ? left.map(([name, value]) => `${name}=${value}`).join('; ') : null;
}

/** A session's cookie for the part's path, over TLS only where it came so. */
export const setCookie = (value: string, at: string, secure: boolean): string =>
  `${stickyCookie}=${value}; Path=${at}; HttpOnly; SameSite=Lax${secure ? '; Secure' : ''}`;

export const cookiesOf = (header: string | undefined): [string, string][] =>
  (header ?? '').split(';').flatMap((one): [string, string][] => {
    const equals = one.indexOf('=');
    return equals < 0 ? [] : [[one.slice(0, equals).trim(), one.slice(equals + 1).trim()]];
  });
