/** What is open for each host of which somebody asks whether it is used: requests until they are answered, connections until they end. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { usesBut } from '../../core/cutover/use.js';
import type { Route } from '../../core/cutover/route.js';

export interface Entry {
  /** It is use of the environment. */
  counts: boolean;
  /** Ends it where it would stay open for ever: a tunnel, a stream of events; an answer that comes to its end by itself is left. */
  close(): void;
}

export interface Inside {
  /** It is open until the returned function is called. */
  enter(host: string, entry: Entry): () => void;
  open(host: string): number;
  /** Ends what would stay open. */
  clear(host: string): void;
  /** Hosts that are used at this moment. */
  used(): string[];
}

/** `emptied`: the last one of a host is over. */
export function openInside(emptied: (host: string) => void): Inside {
  const hosts = new Map<string, Set<Entry>>();
  return {
    enter(host, entry) {
      const all = hosts.get(host) ?? new Set();
      hosts.set(host, all.add(entry));
      return () => {
        if (!all.delete(entry) || all.size > 0) return;
        hosts.delete(host);
        emptied(host);
      };
    },
    open: (host) => hosts.get(host)?.size ?? 0,
    clear(host) {
      for (const entry of [...(hosts.get(host) ?? [])]) entry.close();
    },
    used: () => [...hosts].filter(([, all]) => [...all].some((one) => one.counts)).map(([host]) => host),
  };
}

/** Of what is no use at all. */
export const noUse = { counts: false, wakes: false } as const;

/** Rules of routes, compiled once for each of them. */
const compiled = new WeakMap<object, ReturnType<typeof usesBut>>();

/**
 * What a request is to the environment: whether it counts as use of it, and whether it wakes it; `connection`: one that stays open.
 * A request that does not count wakes it all the same, or nobody could; a connection that does not count would do so by itself.
 */
export function meansOf(
  route: Route,
  path: string,
  request: IncomingMessage,
  connection: boolean,
): { counts: boolean; wakes: boolean } {
  const { uses } = route;
  if (!uses) return noUse;
  let fits = compiled.get(uses);
  if (!fits) {
    fits = usesBut(uses.except);
    compiled.set(uses, fits);
  }
  const fit = fits(path, request.headers);
  return connection
    ? { counts: fit && uses.connections, wakes: fit && uses.connections }
    : { counts: fit && uses.requests, wakes: fit };
}

/** Whether what is asked for stays open: events, as long as somebody listens. */
export const asksForEvents = ({ headers }: IncomingMessage): boolean =>
  /\btext\/event-stream\b/.test(headers.accept ?? '');

/** Ends an answer that would never end. */
export const endEvents = (response: ServerResponse): void => {
  if (/^text\/event-stream\b/.test(String(response.getHeader('content-type') ?? ''))) response.destroy();
};
