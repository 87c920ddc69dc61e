import { lostTopic } from '../records/database.js';

/** What is heard from the records, passed on to who waits in this process. */
export interface Hub {
  heard(topic: string): void;
  /** Whether changes are not heard of just now. */
  deaf(): boolean;
  /** Calls back for each matching topic until the returned function is called; `*` matches all. */
  on(matches: (topic: string) => boolean, heard: () => void): () => void;
  /** Resolves at the next matching topic, at the latest after `ms`, or when `signal` aborts. */
  wait(matches: (topic: string) => boolean, ms: number, signal: AbortSignal): Promise<void>;
}

export function makeHub(): Hub {
  const listeners = new Set<{ matches: (topic: string) => boolean; heard: () => void }>();
  let deaf = true;
  const hub: Hub = {
    deaf: () => deaf,
    heard(topic) {
      if (topic === lostTopic) deaf = true;
      if (topic === '*') deaf = false;
      for (const one of [...listeners]) if (topic === '*' || one.matches(topic)) one.heard();
    },
    on(matches, heard) {
      const one = { matches, heard };
      listeners.add(one);
      return () => listeners.delete(one);
    },
    wait(matches, ms, signal) {
      return new Promise((resolve) => {
        const off = hub.on(matches, done);
        const timer = setTimeout(done, ms);
        signal.addEventListener('abort', done, { once: true });
        function done() {
          off();
          clearTimeout(timer);
          signal.removeEventListener('abort', done);
          resolve();
        }
        if (signal.aborted) done();
      });
    },
  };
  return hub;
}
