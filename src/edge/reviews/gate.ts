/**
 * Who may look at a review: people who are signed in at the console, whoever has a link, programs that were given a pass. What lets
 * somebody in is a cookie of this host alone, which no program of the review ever sees; whether it still does is asked again each
 * minute. Without it a browser is led to the console and back, by a code that is good once and in the browser that set out.
 */
import { createHash, randomBytes } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { LRUCache } from 'lru-cache';
import type { Route } from '../../core/cutover/route.js';
import type { Client } from '../../wire/rooms/client.js';
import type { GateAnswer } from '../../wire/rooms/work.js';
import { callerOf, isSecure, passHeader, refuse } from '../headers.js';
import { navigates } from '../site.js';
import { cookiesOf, doorCookies, passCookies } from '../sticky.js';
import { escaped, pathHere, sendPage } from './page.js';

/** Whether something comes with a request that is said to be of a picture: whether it is, `lets` knows. */
export const saysPicture = ({ headers }: IncomingMessage): boolean => /tsunagi-pass=i\./.test(headers.cookie ?? '');

/** Where links and codes are exchanged; no program of a review is ever asked for it. */
export const gatePath = '/_tsunagi/gate';

type Guarded = NonNullable<Route['gate']>;
/** Somebody may not go on; may; or is the service's own browser, of which nothing counts. */
export type Let = false | 'in' | 'quiet';

/** The first of two answers that lets somebody in. */
const either = async (one: Promise<Let>, other: Promise<Let>): Promise<Let> => (await one) || other;

interface At {
  host: string;
  environment: string;
  gate: Guarded;
}

export interface Gate {
  /**
   * Whether it may go on, and what it is then; a promise while that is asked. `open`: everybody may go on there, and it is only asked
   * whether it is a picture's.
   */
  lets(host: string, request: IncomingMessage, open?: boolean): Let | Promise<Let>;
  /** For whoever may not: a way in, or a word. */
  stop(at: At, request: IncomingMessage, response: ServerResponse): void;
  /** What is asked under `gatePath`; `gate` null: everybody may look. */
  answer(at: Omit<At, 'gate'> & { gate: Guarded | null }, request: IncomingMessage, response: ServerResponse): void;
}

/** Milliseconds for which somebody who was let in is while the service is away. */
const awayMs = 600_000;
/** Milliseconds for which what was refused is not asked for again. */
const refusedMs = 5_000;
/** Tokens of one request that are looked at: others may have set cookies of the name. */
const mostTokens = 3;
/** Questions a minute about what is not known that one client may cause: many people may come from one address. */
const mostAsked = 600;
/** Questions a minute about what says it is of a picture, of all clients together, where nobody is kept out. */
const mostPictures = 300;
const doorSeconds = 600;

const noText = 'This review asks who looks at it: open it in a browser, or send a pass.';
const awayText = 'The service that knows who may look at this does not answer; come again in a moment.';

export function openGate(client: Pick<Client, 'post'>, name: string, now: () => number = Date.now): Gate {
  const known = new LRUCache<string, { lets: Let; until: number; seen: number }>({ max: 20_000 });
  const asking = new Map<string, Promise<Let>>();
  const asked = new LRUCache<string, { since: number; count: number }>({ max: 10_000 });

  const mayAsk = (request: IncomingMessage): boolean => {
    const from = callerOf(request);
    const before = asked.get(from);
    if (!before || now() - before.since >= 60_000) asked.set(from, { since: now(), count: 1 });
    else before.count++;
    return (asked.get(from)?.count ?? 0) <= mostAsked;
  };
  let pictures = { since: 0, count: 0 };
  const mayAskPicture = (): boolean => {
    if (now() - pictures.since >= 60_000) pictures = { since: now(), count: 0 };
    return ++pictures.count <= mostPictures;
  };
  const ask = (host: string, what: { pass?: string; link?: string; code?: string; door?: string }) =>
    client.post<GateAnswer>('/api/edge/gate', { name, host, ...what });

  /** Whether a token lets its holder in; what was let in a while ago still is while nobody can be asked. */
  const good = (host: string, token: string, request: IncomingMessage, open: boolean): Let | Promise<Let> => {
    const key = `${host} ${createHash('sha256').update(token).digest('base64url')}`;
    const before = known.get(key);
    if (before && before.until > now()) return before.lets;
    const under = asking.get(key);
    if (under) return under;
    // Whoever was let in before is asked for again, however many come from there.
    if (!before?.lets && (!mayAsk(request) || (open && !mayAskPicture()))) return false;
    const question = ask(host, { pass: token })
      .then(({ goodMs, quiet }): Let => {
        const found: Let = goodMs > 0 && (quiet ? 'quiet' : 'in');
        known.set(key, { lets: found, until: now() + (goodMs || refusedMs), seen: now() });
        return found;
      })
      .catch((): Let => (before && now() - before.seen < awayMs ? before.lets : false))
      .finally(() => asking.delete(key));
    asking.set(key, question);
    return question;
  };

  const exchange = async (
    { host, environment }: Omit<At, 'gate'>,
    asks: URLSearchParams,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<void> => {
    const [code, link] = [asks.get('code'), asks.get('link')];
    const door = cookieOf(request, doorCookies)[0];
    const found = await ask(host, {
      ...(code ? { code } : {}),
      ...(link ? { link } : {}),
      ...(door ? { door } : {}),
    }).catch(() => null);
    if (!found) return word(request, response, 503, environment, awayText);
    if (!found.pass) return word(request, response, 403, environment, found.why ?? noText);
    cookies(response, [
      setTo(request, passCookies, found.pass, found.passSeconds),
      ...(code ? [setTo(request, doorCookies, '', 0)] : []),
    ]);
    goTo(response, pathHere(asks.get('to')));
  };

  return {
    lets(host, request, open = false) {
      const header = request.headers[passHeader];
      const tokens = [...(typeof header === 'string' ? [header] : []), ...cookieOf(request, passCookies)];
      let later: Promise<Let> | null = null;
      for (const token of tokens.filter((one) => one.length > 20 && one.length < 200).slice(0, mostTokens)) {
        const one = good(host, token, request, open);
        if (one === 'in' || one === 'quiet') return one;
        if (one) later = later ? either(later, one) : one;
      }
      return later ?? false;
    },
    stop({ host, environment, gate }, request, response) {
      const reads = request.method === 'GET' || request.method === 'HEAD';
      if (!reads || !navigates(request)) return refuse(response, 401, noText);
      if (gate.access === 'signed-in') return setOut(host, gate, request.url ?? '/', request, response);
      const to = encodeURIComponent(pathHere(request.url ?? '/'));
      sendPage(request, response, {
        status: 401,
        title: escaped(environment),
        main: `<h1>${escaped(environment)} opens with a link</h1><p>Whoever has sent you here can give you one.</p><form method="get" action="${gatePath}"><input type="hidden" name="to" value="${escaped(decodeURIComponent(to))}"><button>I am signed in to Tsunagi</button></form>`,
      });
    },
    answer({ host, environment, gate }, request, response) {
      if (request.method !== 'GET') return refuse(response, 405, 'This is only read.');
      const asks = new URL(request.url ?? '/', 'http://edge').searchParams;
      const to = pathHere(asks.get('to'));
      if (!gate) return goTo(response, to);
      if (!asks.has('code') && !asks.has('link')) return setOut(host, gate, to, request, response);
      if (!mayAsk(request)) return refuse(response, 429, 'This client has asked too much; come again in a minute.');
      exchange({ host, environment }, asks, request, response).catch(() => refuse(response, 503, awayText));
    },
  };
}

/** To the console, which knows who it is; what comes back is good in this browser alone. */
function setOut(host: string, { console }: Guarded, to: string, request: IncomingMessage, response: ServerResponse) {
  const door = randomBytes(24).toString('base64url');
  cookies(response, [setTo(request, doorCookies, door, doorSeconds)]);
  const at = new URL('/gate', console);
  at.searchParams.set('host', host);
  at.searchParams.set('door', createHash('sha256').update(door).digest('base64url'));
  at.searchParams.set('to', pathHere(to));
  goTo(response, at.href);
}

function word(
  request: IncomingMessage,
  response: ServerResponse,
  status: number,
  environment: string,
  text: string,
): void {
  if (navigates(request))
    sendPage(request, response, {
      status,
      title: escaped(environment),
      main: `<h1>${escaped(environment)}</h1><p role="alert">${escaped(text)}</p>`,
    });
  else refuse(response, status, text);
}

const goTo = (response: ServerResponse, location: string): void =>
  void response
    .writeHead(303, {
      location,
      'cache-control': 'no-store',
      'referrer-policy': 'no-referrer',
      'content-length': 0,
    })
    .end();

type Names = { plain: string; secure: string };
const nameFor = (request: IncomingMessage, names: Names): string => (isSecure(request) ? names.secure : names.plain);

/** All values of a cookie of ours: others may have set one of the same name. */
const cookieOf = (request: IncomingMessage, names: Names): string[] =>
  cookiesOf(request.headers.cookie).flatMap(([name, value]) => (name === nameFor(request, names) ? [value] : []));

const setTo = (request: IncomingMessage, names: Names, value: string, seconds: number): string =>
  `${nameFor(request, names)}=${value}; Path=/; HttpOnly; SameSite=Lax; Max-Age=${seconds}${isSecure(request) ? '; Secure' : ''}`;

const cookies = (response: ServerResponse, set: string[]): void => void response.setHeader('set-cookie', set);
