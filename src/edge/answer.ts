/** What goes back of a program's answer, whichever way it was asked; and what is said where there is none. */
import type { IncomingMessage } from 'node:http';
import type { ServerPath } from '../core/cutover/route.js';
import { hopByHop, isSecure } from './headers.js';
import { cookieFor, setCookie, stuckTo } from './sticky.js';

export const busyText = 'The programs here have more to do than they can take.';
export const nobodyText = 'Nothing is ready to answer here.';
export const lateText = 'The program that should answer here did not begin to in time.';
export const endedText = 'The program that should answer here ended the connection.';

/** Headers of an answer for the client: without those of one connection, with the request's id and what a visitor stays by. */
export function answerHeaders(
  path: ServerPath,
  instance: ServerPath['instances'][number],
  request: IncomingMessage,
  incoming: Readonly<Record<string, string | string[] | number | undefined>>,
  id: string,
  /** What the visitor is to keep, besides. */
  cookie: string | null,
): Record<string, string | string[]> {
  const answer: Record<string, string | string[]> = {};
  // What the program says of its own connection, and what it names as such (RFC 9110, 7.6.1).
  const named = new Set(
    String(incoming.connection ?? '')
      .toLowerCase()
      .split(/\s*,\s*/),
  );
  for (const [name, value] of Object.entries(incoming))
    if (value !== undefined && !name.startsWith(':') && !hopByHop.has(name) && !named.has(name))
      answer[name] = typeof value === 'number' ? String(value) : value;
  answer['x-request-id'] = id;
  if (path.ownCookies && answer['set-cookie'] !== undefined)
    answer['set-cookie'] = [answer['set-cookie']].flat().map(withoutDomain);
  if (path.sticky !== null && stuckTo(path.sticky, request.headers.cookie, [instance]) === null)
    answer['set-cookie'] = [
      ...[answer['set-cookie'] ?? []].flat(),
      setCookie(cookieFor(path.sticky, instance.id), path.at, isSecure(request)),
    ];
  if (cookie !== null) answer['set-cookie'] = [...[answer['set-cookie'] ?? []].flat(), cookie];
  return answer;
}

/** A cookie without its Domain (RFC 6265, 5.2.3): it is good at the host alone that has set it. */
export const withoutDomain = (cookie: string): string =>
  cookie
    .split(';')
    .filter((part, at) => at === 0 || !/^\s*domain\s*=/i.test(part))
    .join(';');
