/**
 * A visitor stays on one side while the traffic moves: a cookie holds a random number, signed, and says nothing of a release. Who is
 * below the share is on the new side; who was is so when it grows, and all go back at once.
 */
import { createHmac, randomInt, timingSafeEqual } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { allTraffic } from '../../core/cutover/route.js';
import { isSecure } from '../headers.js';
import { cookiesOf, visitorCookies } from '../sticky.js';

const signed = (key: string, host: string, text: string): string =>
  createHmac('sha256', key).update(`${host} ${text}`).digest('base64url').slice(0, 22);

export interface Visitor {
  /** 0 to `allTraffic` - 1. */
  number: number;
  /** What they are to keep; null: they have it. */
  cookie: string | null;
}

/** The number of a visitor of a host; a new one where they have none that we have signed. */
export function visitorOf(key: string, host: string, request: IncomingMessage): Visitor {
  const secure = isSecure(request);
  const name = secure ? visitorCookies.secure : visitorCookies.plain;
  const value = cookiesOf(request.headers.cookie).find(([one]) => one === name)?.[1] ?? '';
  const [text = '', proof = ''] = value.split('.');
  const [given, expected] = [Buffer.from(proof), Buffer.from(signed(key, host, text))];
  if (/^\d{1,4}$/.test(text) && given.length === expected.length && timingSafeEqual(given, expected))
    return { number: Number(text), cookie: null };
  const number = randomInt(allTraffic);
  const kept = `${number}.${signed(key, host, String(number))}`;
  return { number, cookie: `${name}=${kept}; Path=/; HttpOnly; SameSite=Lax${secure ? '; Secure' : ''}` };
}
