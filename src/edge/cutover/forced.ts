/** One side of a cutover, for whoever is let see it first. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { forcedHeader, forcedPath, forcedRelease } from '../../core/cutover/forced.js';
import type { Route, Target } from '../../core/cutover/route.js';
import { isSecure, refuse } from '../headers.js';
import { cookiesOf, forcedCookies } from '../sticky.js';

/** The target that a request asks for, and may; null: it goes where its share leads. */
export function forcedTarget(route: Route, host: string, request: IncomingMessage): Target | null {
  if (route.forced === undefined) return null;
  const name = isSecure(request) ? forcedCookies.secure : forcedCookies.plain;
  const given =
    [request.headers[forcedHeader] ?? []].flat()[0] ??
    cookiesOf(request.headers.cookie).find(([one]) => one === name)?.[1];
  const release = given === undefined ? null : forcedRelease(route.forced, host, given, Date.now());
  if (release === null) return null;
  const shared = route.targets.find((one) => one.release === release && one.share > 0);
  if (shared) return shared;
  return route.mirror?.target.release === release ? { ...route.mirror.target, share: 0, until: null } : null;
}

/** A link: its cookie is kept, and one goes on to the first page. */
export function followForced(
  route: Route,
  host: string,
  search: string,
  request: IncomingMessage,
  response: ServerResponse,
): void {
  const given = search.slice(1);
  if (route.forced === undefined || forcedRelease(route.forced, host, given, Date.now()) === null) {
    refuse(response, 404, 'This link is over, or of another environment.');
    return;
  }
  const secure = isSecure(request);
  const name = secure ? forcedCookies.secure : forcedCookies.plain;
  response.writeHead(303, {
    location: '/',
    'cache-control': 'no-store',
    'set-cookie': `${name}=${given}; Path=/; HttpOnly; SameSite=Lax${secure ? '; Secure' : ''}`,
  });
  response.end();
}

export const asksForForced = ({ url = '', method }: IncomingMessage): boolean =>
  url.startsWith(`${forcedPath}?`) && method === 'GET';
