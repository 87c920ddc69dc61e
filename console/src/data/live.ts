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

/** Follows the feed until the returned function is called; the browser takes it up again by itself with the last event's id. */
export function followFeed(client: QueryClient): () => void {
  const source = new EventSource('/api/feed');
  let timer: ReturnType<typeof setTimeout> | null = null;
  const refresh = () => {
    timer ??= setTimeout(() => {
      timer = null;
      void client.invalidateQueries();
    }, 80);
  };
  source.addEventListener('open', () => {
    if (!connected) refresh();
    setConnected(true);
  });
  source.addEventListener('event', refresh);
  source.addEventListener('error', () => setConnected(false));
  return () => {
    source.close();
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
