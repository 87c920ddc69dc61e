/**
 * Programs that stood still and go on, told to whoever waits for them here before it is recorded. Only what makes an answer quicker
 * stands here: where another service hears of them, the table leads there as ever.
 */
export interface Stood {
  /** Its agent says that it goes on, and answers. */
  tell(instance: string): void;
  /** Hears of all that are told from now on. */
  listen(): Listening;
}

export interface Listening {
  /** Whether all of these were told within `ms`, and before `signal` aborts. */
  all(instances: readonly string[], ms: number, signal: AbortSignal): Promise<boolean>;
  close(): void;
}

export function openStood(): Stood {
  const listening = new Set<(instance: string) => void>();
  return {
    tell(instance) {
      for (const heard of [...listening]) heard(instance);
    },
    listen() {
      const told = new Set<string>();
      let look = () => {};
      const heard = (instance: string) => {
        told.add(instance);
        look();
      };
      listening.add(heard);
      return {
        all: (instances, ms, signal) =>
          new Promise((resolve) => {
            const done = (whether: boolean) => {
              clearTimeout(timer);
              signal.removeEventListener('abort', no);
              look = () => {};
              resolve(whether);
            };
            const no = () => done(false);
            const timer = setTimeout(no, ms);
            signal.addEventListener('abort', no, { once: true });
            look = () => {
              if (instances.every((one) => told.has(one))) done(true);
            };
            if (signal.aborted) no();
            else look();
          }),
        close: () => void listening.delete(heard),
      };
    },
  };
}
