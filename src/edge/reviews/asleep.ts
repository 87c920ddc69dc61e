/**
 * Whoever comes to an environment that sleeps. Somebody at a browser gets a page at once, whose script wakes it and goes on when it is
 * awake: crawlers and previews of links, which run no scripts, wake nobody. Programs wait for their answer. However many come, the
 * service is asked once.
 */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { LRUCache } from 'lru-cache';
import type { Route } from '../../core/cutover/route.js';
import type { WakeAnswer } from '../../wire/rooms/work.js';
import type { Client } from '../../wire/rooms/client.js';
import { callerOf, refuse } from '../headers.js';
import { escaped, pathHere, sendPage } from './page.js';
import { navigates } from '../site.js';

/** Where the page asks; no program of an environment that sleeps is ever asked for what is under it. */
export const wakePath = '/_tsunagi/wake';

export interface Sleepers {
  /** A request to a program that sleeps: a page, or `go` when it is awake. */
  meet(at: Met, request: IncomingMessage, response: ServerResponse, go: () => void): void;
  /** The same of an upgrade. `refused` with a status when it is not to be. */
  meetUpgrade(
    at: Met,
    request: IncomingMessage,
    go: () => void,
    refused: (status: number, text: string) => void,
  ): () => void;
  /** What the page asks under `wakePath`: GET how it is, POST that it wakes. */
  answer(at: Met, request: IncomingMessage, response: ServerResponse): void;
  /** Its table leads to its programs again. */
  awake(host: string): void;
  /** Its programs go on, though this route does not say so yet. */
  stands(host: string, route: Route): boolean;
}

export interface Met {
  host: string;
  route: Route;
  /** It is something for which it wakes. */
  wakes: boolean;
}

/** Requests that wait, of one host and in all. */
const mostOfHost = 500;
const mostHeld = 2_000;
/** Milliseconds for which a request waits at most. */
const waitMs = 60_000;
/** Milliseconds in which the table follows programs that go on; after it they are asked for anew. */
const standMs = 5_000;
/** Wakes a minute that one client may ask for. */
const mostWakes = 60;

const asleepText = 'This review is asleep. Open it in a browser, or ask in another way, and it wakes.';
const laterText = 'This review is still waking; ask again in a moment.';
const manyText = 'This client has woken too much; ask again in a minute.';

interface Held {
  go(): void;
  fail(status: number, text: string): void;
}

export function openSleepers(client: Pick<Client, 'post'>, name: string, now: () => number = Date.now): Sleepers {
  const held = new Map<string, Set<Held>>();
  let count = 0;
  const asking = new Map<string, Promise<WakeAnswer>>();
  const wakes = new LRUCache<string, { since: number; count: number }>({ max: 10_000 });
  /** Host → the route with which its programs were said to go on: any other one is newer. */
  const standing = new LRUCache<string, Route>({ max: 2_000, ttl: standMs });
  /** What was heard last, so that many pages are answered from one question. */
  const heard = new LRUCache<string, WakeAnswer>({ max: 2_000, ttl: 1_000 });

  /** What a client has woken in this minute; whatever comes while one is asked for is part of that. */
  const wokenBy = (request: IncomingMessage): { since: number; count: number } => {
    const from = callerOf(request);
    const known = wakes.get(from);
    if (known && now() - known.since < 60_000) return known;
    const fresh = { since: now(), count: 0 };
    wakes.set(from, fresh);
    return fresh;
  };
  const mayWake = (request: IncomingMessage, host: string): boolean =>
    asking.has(host) || wokenBy(request).count < mostWakes;
  const ask = (host: string, look: boolean): Promise<WakeAnswer> =>
    client.post<WakeAnswer>('/api/edge/wake', { name, host, look });
  /** Asks the service once, whoever else comes; fails what waits where it can't be woken. */
  const wake = (host: string, route: Route, request: IncomingMessage): Promise<WakeAnswer> => {
    const before = asking.get(host);
    if (before) return before;
    const by = wokenBy(request);
    by.count++;
    const asked = (async () => {
      for (;;) {
        const answer = await ask(host, false);
        heard.set(host, answer);
        if (answer.state !== 'waking' || !held.has(host)) return answer;
      }
    })();
    asking.set(host, asked);
    asked
      .then(
        ({ state, issue }) => {
          if (state === 'stands') {
            standing.set(host, route);
            return goAll(host);
          }
          if (state === 'awake' || state === 'waking') return;
          failAll(host, state === 'gone' ? 404 : 503, issue ? `It could not be woken: ${issue.says}` : asleepText);
        },
        () => {
          // Nothing was woken.
          by.count--;
          failAll(
            host,
            503,
            'This review sleeps, and the service that wakes it does not answer; ask again in a moment.',
          );
        },
      )
      .finally(() => asking.delete(host));
    return asked;
  };
  const goAll = (host: string) => {
    for (const one of [...(held.get(host) ?? [])]) one.go();
  };
  const failAll = (host: string, status: number, text: string) => {
    for (const one of [...(held.get(host) ?? [])]) one.fail(status, text);
  };
  /** Waits until the host is awake. Gives what ends the wait. */
  const hold = ({ host, route }: Met, request: IncomingMessage, one: Held): (() => void) => {
    const all = held.get(host) ?? new Set();
    if (all.size >= mostOfHost || count >= mostHeld) {
      one.fail(503, 'Too many wait for this review already; ask again in a moment.');
      return () => {};
    }
    held.set(host, all);
    const leave = () => {
      clearTimeout(late);
      if (!all.delete(entry)) return;
      count--;
      if (all.size === 0 && held.get(host) === all) held.delete(host);
    };
    const entry: Held = {
      go() {
        leave();
        one.go();
      },
      fail(status, text) {
        leave();
        one.fail(status, text);
      },
    };
    const late = setTimeout(() => entry.fail(503, laterText), waitMs);
    late.unref();
    all.add(entry);
    count++;
    wake(host, route, request).catch(() => {});
    return leave;
  };

  return {
    meet(at, request, response, go) {
      const { host, route, wakes: may } = at;
      response.setHeader('retry-after', '2');
      const reads = request.method === 'GET' || request.method === 'HEAD';
      if (reads && navigates(request)) return page(route, request, response);
      if (!may) return refuse(response, 503, asleepText);
      if (!mayWake(request, host)) return refuse(response, 429, manyText);
      // Its body comes when somebody is there to take it.
      request.pause();
      const leave = hold(at, request, {
        go() {
          response.off('close', leave);
          response.removeHeader('retry-after');
          go();
          request.resume();
        },
        fail: (status, text) => refuse(response, status, text),
      });
      response.once('close', leave);
    },
    meetUpgrade(at, request, go, refused) {
      if (!at.wakes || !mayWake(request, at.host)) {
        refused(503, 'Service Unavailable');
        return () => {};
      }
      return hold(at, request, { go, fail: (status) => refused(status, 'Service Unavailable') });
    },
    answer({ host, route }, request, response) {
      const told = (answer: WakeAnswer): void => {
        response.writeHead(200, { 'content-type': 'application/json', 'cache-control': 'no-store' });
        response.end(JSON.stringify(answer));
      };
      if (request.method !== 'GET' && request.method !== 'POST') return refuse(response, 405, 'Ask, or post.');
      if (!route.asleep || standing.get(host) === route)
        return back(request, response) || told({ state: 'awake', queue: 0, issue: null });
      if (request.method === 'GET') {
        const known = heard.get(host);
        if (known && known.state !== 'awake' && known.state !== 'stands') return told(known);
        ask(host, true).then(
          (answer) => {
            heard.set(host, answer);
            // The table follows in a moment.
            told(answer.state === 'awake' ? { ...answer, state: 'waking' } : answer);
          },
          () => refuse(response, 503, 'The service does not answer.'),
        );
        return;
      }
      // A page of somebody else's wakes nobody.
      const site = request.headers['sec-fetch-site'];
      if (site !== undefined && site !== 'same-origin') return refuse(response, 403, 'Only its own page wakes it.');
      if (!mayWake(request, host)) return refuse(response, 429, manyText);
      request.resume();
      wake(host, route, request).catch(() => {});
      if (back(request, response)) return;
      told({ state: 'waking', queue: 0, issue: null });
    },
    awake: goAll,
    stands: (host, route) => standing.get(host) === route,
  };
}

/** Leads a browser without scripts back to where it was: its form asks for a page. */
function back(request: IncomingMessage, response: ServerResponse): boolean {
  if (!navigates(request)) return false;
  const location = pathHere(new URL(request.url ?? '/', 'http://edge').searchParams.get('to'));
  response.writeHead(303, { location, 'cache-control': 'no-store', 'content-length': 0 }).end();
  return true;
}

const script = `const say=document.getElementById('say'),why=document.getElementById('why'),again=document.getElementById('again');
const began=Date.now();let waking=true;
const show=(text,issue)=>{say.textContent=text;why.textContent=issue||'';why.hidden=!issue;again.hidden=!issue;document.getElementById('run').style.display=issue?'none':''};
const wake=async()=>{waking=true;show('It wakes now; this page goes on by itself.');try{const r=await fetch('${wakePath}',{method:'POST'});if(r.status===429){waking=false;show('',(await r.text()))}}catch{}};
const look=async()=>{try{const r=await fetch('${wakePath}',{cache:'no-store'});if(r.ok){const a=await r.json();
if(a.state==='awake')return location.reload();
if(a.state==='gone')return location.reload();
if(a.state==='asleep'&&a.issue){waking=false;show('It could not be woken.',a.issue.says+' '+a.issue.next)}
else if(a.state==='asleep'&&waking&&Date.now()-began>3000)wake();
else if(a.queue>0)show('It waits for '+a.queue+' others that wake before it.');
else if(waking&&Date.now()-began>15000)show('It takes longer than usual; this page goes on by itself.')}}catch{}
setTimeout(look,waking&&Date.now()-began<5000?150:1000)};
again.addEventListener('click',wake);wake();setTimeout(look,60);`;

function page(route: Route, request: IncomingMessage, response: ServerResponse): void {
  const name = escaped(route.environment);
  const to = escaped(encodeURIComponent((request.url ?? '/').slice(0, 2_000)));
  sendPage(request, response, {
    status: 503,
    title: `${name} wakes`,
    runs: true,
    script,
    main: `<h1>${name} was asleep</h1><p id="say" role="status">Nobody has used this review for a while, so its programs rest.</p><p id="why" class="why" role="alert" hidden></p><button id="again" type="button" hidden>Try again</button>
<noscript><form method="post" action="${wakePath}?to=${to}"><button>Wake it</button></form></noscript>`,
  });
}
