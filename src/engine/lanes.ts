/** Work that waits for something outside: several at a time, so that one that hangs holds nobody else up. */
export interface Lanes {
  /** Takes one more where there is a lane for it; false when there is nothing to take. */
  step(): Promise<boolean>;
  /** Waits for what is under way. */
  over(): Promise<void>;
}

/** `work` never throws; `free` is called when a lane becomes free. */
export function openLanes<T>(
  count: number,
  take: () => Promise<T | null>,
  work: (one: T) => Promise<void>,
  free: () => void,
): Lanes {
  const running = new Set<Promise<void>>();
  return {
    async step() {
      if (running.size >= count) await Promise.race(running);
      const one = await take();
      if (one === null) return false;
      const done = work(one).finally(() => {
        running.delete(done);
        free();
      });
      running.add(done);
      return true;
    },
    over: async () => void (await Promise.all(running)),
  };
}
