/** How a site answers: its files with their digests as tags, redirects, its settings file, and what is said where there is nothing. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createReadStream } from 'node:fs';
import { basename, dirname } from 'node:path';
import { pipeline } from 'node:stream/promises';
import send from '@fastify/send';
import {
  below,
  headersAt,
  namesItsContent,
  redirectOf,
  type Route,
  type SitePath,
  sitesBeside,
  type Target,
} from '../core/cutover/route.js';
import { mayBeCoded, typeOf } from './files.js';
import { refuse } from './headers.js';
import type { Sites } from './sites.js';

/** A file that answers, of whichever site it is. */
interface Found {
  site: SitePath;
  /** Below the site's root, with a slash before it. */
  path: string;
}

/** The page that is shown while the programs of an environment are stopped; false where there is none. */
export async function serveMaintenance(
  sites: Sites,
  site: SitePath,
  request: IncomingMessage,
  response: ServerResponse,
): Promise<boolean> {
  const known = site.maintenance ? sites.file(site.bytes, fullPath(site, `/${site.maintenance}`)) : null;
  if (!known) return false;
  response.writeHead(503, {
    'content-type': typeOf(known.place),
    'content-length': known.file.size,
    'cache-control': 'no-store',
    'retry-after': String(closedRetry),
  });
  if (request.method === 'HEAD') response.end();
  else await pipeline(createReadStream(known.place), response).catch(() => void response.destroy());
  return true;
}

/** Seconds after which a reader of a closed environment may ask again. */
export const closedRetry = 5;

export async function serveSite(
  sites: Sites,
  at: { route: Route; target: Target; site: SitePath },
  asked: { path: string; search: string },
  request: IncomingMessage,
  response: ServerResponse,
): Promise<void> {
  const { site } = at;
  const raw = below(site.at, asked.path);
  const away = redirectOf(site, raw);
  if (away) {
    const search = away.to.includes('?') ? '' : asked.search;
    return move(response, away.permanent ? 308 : 307, away.to + search);
  }
  if (site.settings?.at === raw) return sendSettings(site.settings.values, request, response);
  const path = plain(raw);
  if (path === null) return refuse(response, 404, 'No file has this name.');
  const has = (one: SitePath, name: string) => sites.file(one.bytes, fullPath(one, name)) !== null;
  const find = (one: SitePath): string | null => {
    if (!path.endsWith('/')) return has(one, path) ? path : null;
    return has(one, `${path}index.html`) ? `${path}index.html` : null;
  };
  const own = find(site);
  if (own) return sendFile({ site, path: own }, 200);
  if (!path.endsWith('/') && has(site, `${path}/index.html`))
    return move(response, 308, `${asked.path}/${asked.search}`);
  // What a page that is open still asks for may be another release's.
  for (const other of sitesBeside(at.route, at.target, site)) {
    const found = sites.has(other.bytes) ? find(other) : null;
    if (found) return sendFile({ site: other, path: found }, 200);
  }
  if (site.fallback && navigates(request)) return sendFile({ site, path: `/${site.fallback}` }, 200);
  if (site.missing && has(site, `/${site.missing}`)) return sendFile({ site, path: `/${site.missing}` }, 404);
  return refuse(response, 404, 'There is no such file here.');

  async function sendFile(found: Found, status: number): Promise<void> {
    const known = sites.file(found.site.bytes, fullPath(found.site, found.path));
    if (!known) return refuse(response, 404, 'There is no such file here.');
    const { file, place } = known;
    const ranged = request.headers.range !== undefined && status === 200;
    const coded =
      mayBeCoded(found.path, file) && !ranged
        ? sites.coded.find(file.digest, request.headers['accept-encoding'])
        : null;
    const tag = `"${file.digest.slice(0, 32)}${coded ? `-${coded.coding}` : ''}"`;
    const headers = {
      'content-type': typeOf(found.path),
      etag: tag,
      'cache-control':
        status !== 200
          ? 'no-store'
          : namesItsContent(found.path, found.site)
            ? 'public, max-age=31536000, immutable'
            : 'no-cache',
      ...(mayBeCoded(found.path, file) ? { vary: 'accept-encoding' } : {}),
      ...(coded ? { 'content-encoding': coded.coding } : {}),
      ...lower(headersAt(site, raw)),
    };
    if (status === 200 && sameTag(request.headers['if-none-match'], tag)) {
      const { 'content-type': _type, ...rest } = headers;
      response.writeHead(304, rest);
      return void response.end();
    }
    const from = coded?.place ?? place;
    const answer = await send(conditional(request, tag, status), encodeURIComponent(basename(from)), {
      root: dirname(from),
      dotfiles: 'allow',
      etag: false,
      // Of files whose bytes have a digest no time is known: one that is made up goes backwards with the next release.
      lastModified: false,
      cacheControl: false,
      acceptRanges: !coded && status === 200,
      index: false,
    });
    if (answer.type === 'error') {
      // A part that is not there, a condition that does not hold: what is said of the file does not count for that.
      response.writeHead(answer.statusCode, { ...answer.headers, 'cache-control': 'no-store' });
      return pipeline(answer.stream, response).catch(() => void response.destroy());
    }
    const code = status === 200 ? answer.statusCode : status;
    response.writeHead(code, { ...lower(answer.headers as Record<string, string>), ...headers });
    // A reader who goes away is nothing to tell.
    await pipeline(answer.stream, response).catch(() => response.destroy());
  }
}

const fullPath = (site: SitePath, path: string): string => (site.root ? `${site.root}${path}` : path.slice(1));

/** A path as files are named, or null where no file can be meant: what is hidden, and what can't be read. */
function plain(path: string): string | null {
  let decoded: string;
  try {
    decoded = decodeURIComponent(path);
  } catch {
    return null;
  }
  if (decoded.includes('\0')) return null;
  return decoded.split('/').some((piece) => piece.startsWith('.') && piece !== '.well-known') ? null : decoded;
}

/** Whether somebody goes to a page, rather than a page asking for a file (Fetch Metadata; without it, what is accepted tells). */
export function navigates({ headers }: IncomingMessage): boolean {
  const mode = headers['sec-fetch-mode'];
  return mode === undefined ? /\btext\/html\b/.test(headers.accept ?? '') : mode === 'navigate';
}

/** The weak comparison of RFC 9110, 13.1.2. */
const sameTag = (header: string | undefined, tag: string): boolean =>
  header !== undefined &&
  (header.trim() === '*' || header.split(',').some((one) => one.trim().replace(/^W\//, '') === tag));

/** The request as far as it matters here: tags are compared here, and a time says nothing of a file. */
function conditional(request: IncomingMessage, tag: string, status: number): IncomingMessage {
  const { 'if-none-match': known, 'if-range': ranges, ...headers } = request.headers;
  const range = [ranges ?? []].flat()[0];
  delete headers['if-modified-since'];
  delete headers['if-unmodified-since'];
  if (status !== 200 || (range !== undefined && range !== tag)) delete headers.range;
  return { method: request.method, headers } as unknown as IncomingMessage;
}

const lower = (headers: Record<string, string>): Record<string, string> =>
  Object.fromEntries(Object.entries(headers).map(([name, value]) => [name.toLowerCase(), value]));

function move(response: ServerResponse, status: number, to: string): void {
  response.writeHead(status, { location: to, 'cache-control': status === 308 ? 'public, max-age=3600' : 'no-store' });
  response.end();
}

function sendSettings(values: Record<string, string>, request: IncomingMessage, response: ServerResponse): void {
  const text = `${JSON.stringify(values)}\n`;
  response.writeHead(200, {
    'content-type': 'application/json; charset=utf-8',
    'content-length': Buffer.byteLength(text),
    'cache-control': 'no-store',
  });
  response.end(request.method === 'HEAD' ? undefined : text);
}
