/** Requests to switch to another protocol: whether and where they go on. */
import type { IncomingMessage } from 'node:http';
import type { Duplex } from 'node:stream';
import type { Route, RoutePath, ServerPath } from '../core/cutover/route.js';
import type { Sleepers } from './reviews/asleep.js';
import type { Counter } from './count.js';
import { callerOf, hostOf } from './headers.js';
import { type Entry, type Inside, meansOf, noUse } from './reviews/inside.js';
import { type Gate, type Let, saysPicture } from './reviews/gate.js';
import type { ServerProxy } from './proxy.js';
import { shownTo } from './tls.js';
import { refuseUpgrade, upgrade } from './upgrade.js';

export interface TunnelParts {
  find(request: IncomingMessage): {
    host: string;
    route: Route | null;
    asked: { path: string; search: string } | null;
    place: RoutePath | null;
  };
  /** Path and search as the program sees them. */
  seen(place: ServerPath, asked: { path: string; search: string }): string;
  /** Counts one more of a client until the returned function is called; null: it has enough. */
  enter(from: string): (() => void) | null;
  covers(shown: string, host: string): boolean;
  proxy: ServerProxy;
  counter: Pick<Counter, 'use'>;
  inside: Inside;
  sleepers: Sleepers;
  gate: Pick<Gate, 'lets'>;
  log: { warn(data: object, text: string): void };
}

type Upgrades = (request: IncomingMessage, socket: Duplex, head: Buffer) => void;

export function makeUpgrades(parts: TunnelParts): Upgrades {
  const { find, seen, proxy, counter, inside, sleepers, gate, log } = parts;
  const go = (
    request: IncomingMessage,
    socket: Duplex,
    head: Buffer,
    leave: () => void,
    judged: Let | null = null,
  ): void => {
    const { host, asked, place, route } = find(request);
    const refused = (status: number, text: string) => refuseUpgrade(socket, status, text, leave);
    const shown = shownTo(request);
    const may = judged ?? (route?.gate || saysPicture(request) ? gate.lets(host, request, !route?.gate) : 'in');
    if (typeof may !== 'string' && may)
      return void may.then((one) => {
        if (socket.destroyed) leave();
        else go(request, socket, head, leave, one);
      });
    if (!may && route?.gate) refused(401, 'Unauthorized');
    else if (shown !== null && !parts.covers(shown, hostOf(request))) refused(421, 'Misdirected Request');
    else if (route?.closed) refused(503, 'Service Unavailable');
    else if (!route || place?.kind !== 'server' || !asked) refused(404, 'Not Found');
    // HTTP/2 knows no upgrades (RFC 9113, 8.6).
    else if (place.http2) refused(501, 'Not Implemented');
    else {
      const { counts, wakes } = may === 'quiet' ? noUse : meansOf(route, asked.path, request, true);
      if (route.asleep && !sleepers.stands(host, route)) wait({ host, route, wakes }, request, socket, head, leave);
      else pass({ host, route, counts }, () => seen(place, asked), place, request, socket, head, leave);
    }
  };
  /** Until it is awake, or the client has gone. */
  const wait = (
    at: Parameters<Sleepers['meetUpgrade']>[0],
    request: IncomingMessage,
    socket: Duplex,
    head: Buffer,
    leave: () => void,
  ): void => {
    const gone = () => {
      over();
      leave();
    };
    socket.once('close', gone);
    const over = sleepers.meetUpgrade(
      at,
      request,
      () => {
        socket.off('close', gone);
        go(request, socket, head, leave);
      },
      (status, text) => {
        socket.off('close', gone);
        refuseUpgrade(socket, status, text, leave);
      },
    );
  };
  const pass = (
    { host, route, counts }: { host: string; route: Route; counts: boolean },
    path: () => string,
    place: ServerPath,
    request: IncomingMessage,
    socket: Duplex,
    head: Buffer,
    leave: () => void,
  ): void => {
    if (counts) counter.use(host);
    const tunnel: Entry = {
      counts,
      close() {
        socket.destroy();
      },
    };
    const out = route.uses ? inside.enter(host, tunnel) : () => {};
    const over = () => {
      out();
      leave();
    };
    try {
      upgrade(proxy, place, path(), request, socket, head, {
        leave: over,
        opened(close) {
          tunnel.close = close;
        },
      });
    } catch (error) {
      log.warn({ error: String(error) }, 'an upgrade could not be passed on');
      refuseUpgrade(socket, 400, 'Bad Request', over);
    }
  };
  return (request, socket, head) => {
    const leave = parts.enter(callerOf(request));
    if (leave) go(request, socket, head, leave);
    else refuseUpgrade(socket, 429, 'Too Many Requests', () => {});
  };
}
