/** Everything on a page that can change changes live: an event of the feed makes what it may have changed be asked for again. */
import type { QueryClient } from '@tanstack/react-query';
import { useEffect, useState, useSyncExternalStore } from 'react';
import type { Event } from '../../../src/wire/overview';
import { changes, isList } from './changes';

let connected = true;
const listeners = new Set<() => void>();
const setConnected = (now: boolean) => {
  if (now === connected) return;
  connected = now;
  for (const one of listeners) one();
};

/** Milliseconds until a stream that the browser has given up is opened anew, at first and at most. */
const againMs = 500;
const againAtMost = 10_000;

/**
 * A stream that is opened again until the returned function is called. The browser takes one up again that broke, but gives up for good
 * where the service refuses it for a moment; `lost` is told which.
 */
export function openSource(
  address: string,
  listen: (source: EventSource) => void,
  lost: (refused: boolean) => void = () => {},
): () => void {
  let source: EventSource;
  let timer: ReturnType<typeof setTimeout> | null = null;
  let pause = againMs;
  const open = () => {
    timer = null;
    source = new EventSource(address);
    source.addEventListener('open', () => {
      pause = againMs;
    });
    source.addEventListener('error', () => {
      lost(source.readyState === EventSource.CLOSED);
      if (source.readyState !== EventSource.CLOSED || timer) return;
      timer = setTimeout(open, pause);
      pause = Math.min(againAtMost, pause * 2);
    });
    listen(source);
  };
  open();
  return () => {
    if (timer) clearTimeout(timer);
    source.close();
  };
}

/** Milliseconds in which events are gathered, and between two times that a list of many things is asked for. */
const gatherMs = 80;
const listsEveryMs = 1_000;

/** Follows the feed until the returned function is called; what happened while nobody listened is asked for when it opens. */
export function followFeed(client: QueryClient): () => void {
  const details = gather(gatherMs, (changed) =>
    client.invalidateQueries({ predicate: ({ queryKey }) => !isList(queryKey) && changed(queryKey) }),
  );
  const lists = gather(listsEveryMs, (changed) =>
    client.invalidateQueries({ predicate: ({ queryKey }) => isList(queryKey) && changed(queryKey) }),
  );
  const close = openSource(
    '/api/feed',
    (source) => {
      // What a page asked for before this was heard may be older than the feed's first event.
      source.addEventListener('open', () => {
        void client.invalidateQueries();
        setConnected(true);
      });
      source.addEventListener('event', (message) => {
        const changed = changes(JSON.parse((message as MessageEvent<string>).data) as Event);
        details.add(changed);
        lists.add(changed);
      });
    },
    (refused) => {
      setConnected(false);
      // Whoever is signed out is told so by the next question.
      if (refused) void client.invalidateQueries({ queryKey: ['me'] });
    },
  );
  return () => {
    close();
    details.close();
    lists.close();
  };
}

type Changed = (key: readonly unknown[]) => boolean;

/** Gathers what has changed: at once after a quiet time, otherwise once in `ms`. */
function gather(ms: number, refresh: (changed: Changed) => Promise<unknown>) {
  let waiting: Changed[] = [];
  let timer: ReturnType<typeof setTimeout> | null = null;
  let last = Number.NEGATIVE_INFINITY;
  return {
    add(changed: Changed) {
      waiting.push(changed);
      timer ??= setTimeout(
        () => {
          timer = null;
          last = performance.now();
          const all = waiting;
          waiting = [];
          void refresh((key) => all.some((one) => one(key)));
        },
        Math.max(gatherMs, last + ms - performance.now()),
      );
    },
    close() {
      if (timer) clearTimeout(timer);
    },
  };
}

export const useConnected = (): boolean =>
  useSyncExternalStore(
    (changed) => {
      listeners.add(changed);
      return () => listeners.delete(changed);
    },
    () => connected,
  );

/** The time, every `ms`, for what shows how long something takes. */
export function useNow(ms: number, running = true): number {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    if (!running) return;
    const timer = setInterval(() => setNow(Date.now()), ms);
    return () => clearInterval(timer);
  }, [ms, running]);
  return now;
}
