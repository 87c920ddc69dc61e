/** What the outside says in its headers, and what of it goes on to a program. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Callers } from './callers.js';
import { withoutOurs } from './sticky.js';

/** About one connection (RFC 9110, 7.6.1): never passed on. */
export const hopByHop: ReadonlySet<string> = new Set([
  'connection',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
  'expect',
]);

/** What a client cannot take off by naming it in Connection. */
const fixed: ReadonlySet<string> = new Set([
  'host',
  'content-length',
  'content-type',
  'authorization',
  'cookie',
  'cache-control',
]);

/** What was asked for: path and search as they are chosen by and passed on, the same text for both; null when it is no address. */
export function askedFor(url: string): { path: string; search: string } | null {
  try {
    // A path that begins with two slashes is a path, not a host.
    const { pathname, search } = new URL(url.startsWith('/') ? `http://edge${url}` : url);
    return { path: pathname, search };
  } catch {
    return null;
  }
}

/** What a request names as its host, with the port: in HTTP/2 a field of its own (RFC 9113, 8.3.1). */
const authorityOf = ({ headers }: IncomingMessage): string =>
  (headers[':authority'] as string | undefined) ?? headers.host ?? '';

export const hostOf = (request: IncomingMessage): string =>
  authorityOf(request).replace(/:\d+$/, '').replace(/\.$/, '').toLowerCase();

/** Of each request who asks, and whether over TLS: it is found out once, when the request comes. */
const asking = new WeakMap<IncomingMessage, { address: string; secure: boolean }>();

export const noteCaller = (request: IncomingMessage, callers: Pick<Callers, 'addressOf' | 'isSecure'>): void =>
  void asking.set(request, { address: callers.addressOf(request), secure: callers.isSecure(request) });

/** Address of who asks. */
export const callerOf = (request: IncomingMessage): string =>
  asking.get(request)?.address ?? (request.socket.remoteAddress ?? '').replace(/^::ffff:/, '');

/** Whether it came over TLS, to here or to a proxy that is trusted. */
export const isSecure = (request: IncomingMessage): boolean =>
  asking.get(request)?.secure ?? ('encrypted' in request.socket && request.socket.encrypted === true);

/** With it a program says that it may look at a review. */
export const passHeader = 'tsunagi-pass';

/** What only the edge may say, and what is said to it alone. */
const ownWords: ReadonlySet<string> = new Set([
  'host',
  'forwarded',
  'x-request-id',
  passHeader,
  'tsunagi-mirror',
  'tsunagi-release',
]);

/** Where a program is, as the authority of a URL has it (RFC 3986, 3.2.2): an IPv6 address goes in brackets. */
export const originOf = ({ address, port }: { address: string; port: number }): string =>
  `http://${address.includes(':') ? `[${address}]` : address}:${port}`;

/** A node as RFC 7239, 6 writes it: an address with colons stands in brackets and quotes. */
const nodeOf = (address: string): string => (address.includes(':') ? `"[${address}]"` : address);

/** Headers by which a proxy says who asked. Some programs read `_` like `-`. Only the edge may say it. */
const saysWhoAsked = (name: string): boolean => /^x[-_](forwarded([-_]|$)|real[-_]ip$)/.test(name);

/**
 * Headers for the program: one Host, and nothing that only the edge may say; who asked in the words of RFC 7239 and in those that
 * most programs read. Names and values in turn.
 * @param id of this request
 */
export function forwarded(request: IncomingMessage, id: string): string[] {
  // A name is the same in capitals (RFC 9110, 4.2.3): programs and their caches get one form of it.
  const host = authorityOf(request).toLowerCase();
  const headers: string[] = ['host', host];
  // HTTP/2 may send them on several lines (RFC 9113, 8.2.3); a program gets one.
  const cookies: string[] = [];
  const named = new Set((request.headers.connection ?? '').split(',').map((one) => one.trim().toLowerCase()));
  for (let at = 0; at < request.rawHeaders.length; at += 2) {
    const name = request.rawHeaders[at] as string;
    const lower = name.toLowerCase();
    if (lower.startsWith(':') || ownWords.has(lower) || hopByHop.has(lower) || saysWhoAsked(lower)) continue;
    if (named.has(lower) && !fixed.has(lower)) continue;
    const value = request.rawHeaders[at + 1] as string;
    if (lower === 'cookie') cookies.push(value);
    else headers.push(name, value);
  }
  const kept = cookies.length ? withoutOurs(cookies.join('; ')) : null;
  if (kept !== null) headers.push('cookie', kept);
  const client = callerOf(request);
  const quoted = host.replace(/["\\]/g, '');
  const proto = isSecure(request) ? 'https' : 'http';
  headers.push('forwarded', `for=${nodeOf(client)};host="${quoted}";proto=${proto}`);
  headers.push('x-forwarded-for', client, 'x-forwarded-proto', proto, 'x-forwarded-host', host, 'x-request-id', id);
  return headers;
}

/** Whether the client has gone, or has had its response. A response of HTTP/2 says so by its stream alone. */
export const hasGone = (response: ServerResponse): boolean =>
  response.destroyed || (response as { stream?: { destroyed: boolean } }).stream?.destroyed === true;

/** A plain answer of the edge itself. */
export function refuse(response: ServerResponse, status: number, text: string): void {
  if (response.headersSent) return void response.destroy();
  response.writeHead(status, {
    'content-type': 'text/plain; charset=utf-8',
    'cache-control': 'no-store',
    ...(status === 503 && !response.hasHeader('retry-after') ? { 'retry-after': '1' } : {}),
  });
  response.end(`${text}\n`);
}
