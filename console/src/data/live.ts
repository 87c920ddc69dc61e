/** Everything on a page that can change changes live: events of the feed make what is shown be asked again. */
import type { QueryClient } from '@tanstack/react-query';
import { useEffect, useState, useSyncExternalStore } from 'react';

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

/** Follows the feed until the returned function is called; what happened while nobody listened is asked for when it opens. */
export function followFeed(client: QueryClient): () => void {
  let timer: ReturnType<typeof setTimeout> | null = null;
  const refresh = () => {
    timer ??= setTimeout(() => {
      timer = null;
      void client.invalidateQueries();
    }, 80);
  };
  const close = openSource(
    '/api/feed',
    (source) => {
      // What a page asked for before this was heard may be older than the feed's first event.
      source.addEventListener('open', () => {
        refresh();
        setConnected(true);
      });
      source.addEventListener('event', refresh);
    },
    (refused) => {
      setConnected(false);
      // Whoever is signed out is told so by the next question.
      if (refused) void client.invalidateQueries({ queryKey: ['me'] });
    },
  );
  return () => {
    close();
    if (timer) clearTimeout(timer);
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
