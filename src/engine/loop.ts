/** A loop: does steps until there is nothing to do, then sleeps until it is woken, something is due, or the sweep. */
import { backoff } from '../core/backoff.js';
import type { Log } from './context.js';

export interface LoopOptions {
  name: string;
  /** Does one piece of work; false when there was none. */
  step(): Promise<boolean>;
  /** Milliseconds until something is due by itself, or null. */
  nextDue?(): Promise<number | null>;
  sweepMs: number;
  /** Milliseconds between a wake and the step: what happens meanwhile is done with it. Default 0. */
  gatherMs?: number;
  log: Log;
}

export interface Loop {
  wake(): void;
  /** Ends after the step that runs. */
  stop(): Promise<void>;
}

export function startLoop({ name, step, nextDue, sweepMs, gatherMs = 0, log }: LoopOptions): Loop {
  let stopped = false;
  let woken = false;
  let failures = 0;
  let release = () => {};
  const sleep = (ms: number) =>
    new Promise<void>((resolve) => {
      if (woken || stopped) return resolve();
      const timer = setTimeout(resolve, ms);
      release = () => {
        clearTimeout(timer);
        resolve();
      };
    });
  const run = async (): Promise<void> => {
    while (!stopped) {
      woken = false;
      try {
        if (await step()) continue;
        failures = 0;
        const due = nextDue ? await nextDue() : null;
        await sleep(Math.max(5, Math.min(sweepMs, due ?? sweepMs)));
        if (gatherMs && !stopped) await new Promise((resolve) => setTimeout(resolve, gatherMs));
      } catch (error) {
        failures++;
        log.error(
          { loop: name, failures, error: String((error as Error).stack ?? error) },
          `the loop ${name} failed and goes on`,
        );
        await new Promise((resolve) => setTimeout(resolve, backoff('loop', failures)));
      }
    }
  };
  const done = run();
  return {
    wake() {
      woken = true;
      release();
    },
    async stop() {
      stopped = true;
      release();
      await done;
    },
  };
}
