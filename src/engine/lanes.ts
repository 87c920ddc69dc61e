/** Several rows of work at a time, so that a slow row delays no other one. A row that fails is logged, and the others go on. */
import { backoff } from '../core/backoff.js';
import { settleDue, takeDue, type Due, type WorkTable } from '../records/runs/runs.js';
import type { Context, Log } from './context.js';

export interface Lanes {
  /** Takes one row where a lane is free, waits for a lane otherwise; false when there is nothing to take or no more is taken. */
  step(): Promise<boolean>;
  /** Takes no more rows. A step that waits for a free lane returns at once. */
  end(): void;
  /** Resolves when the rows that were taken are finished. */
  over(): Promise<void>;
}

export interface LaneOptions<T extends { id: string }> {
  /** What a row is, for the log. */
  name: string;
  /** Rows at a time. */
  count: number;
  take(): Promise<T | null>;
  work(row: T): Promise<void>;
  /** Called when a lane becomes free. */
  free(): void;
  log: Log;
  /** What follows for a row whose work threw. By default its lease expires, and it is taken again. */
  failed?(row: T): Promise<void>;
}

export function openLanes<T extends { id: string }>(options: LaneOptions<T>): Lanes {
  const { name, count, take, work, free, log, failed } = options;
  const running = new Set<Promise<void>>();
  let ended = false;
  let end = () => {};
  const ends = new Promise<void>((resolve) => {
    end = resolve;
  });
  const one = async (row: T): Promise<void> => {
    try {
      await work(row);
    } catch (error) {
      log.error({ [name]: row.id, error: String((error as Error).stack ?? error) }, `${name}: the work failed`);
      await failed?.(row).catch((after: Error) =>
        log.error({ [name]: row.id, error: String(after.stack) }, 'not put off'),
      );
    }
  };
  return {
    async step() {
      if (running.size >= count) await Promise.race([...running, ends]);
      if (ended) return false;
      const row = await take();
      if (row === null) return false;
      const done = one(row).finally(() => {
        running.delete(done);
        free();
      });
      running.add(done);
      return true;
    },
    end() {
      ended = true;
      end();
    },
    over: async () => void (await Promise.all(running)),
  };
}

/** Rows whose failures in a row are counted; what is beyond that begins at 1 again. */
const mostCounted = 1_000;

/**
 * Lanes over a table of the engine's work list. A row whose work throws is due again after a pause that doubles, so it delays only
 * itself. A wake in the meantime makes it due at once.
 */
export function workLanes(
  { records, timing, log }: Pick<Context, 'records' | 'timing' | 'log'>,
  table: WorkTable,
  count: number,
  work: (due: Due) => Promise<void>,
  free: () => void,
): Lanes {
  const failures = new Map<string, number>();
  return openLanes<Due>({
    name: table,
    count,
    take: () => takeDue(records, table, timing.lease),
    async work(due) {
      await work(due);
      failures.delete(due.id);
    },
    async failed(due) {
      const failed = (failures.get(due.id) ?? 0) + 1;
      if (failures.size >= mostCounted) failures.clear();
      failures.set(due.id, failed);
      await settleDue(records, table, due, backoff('row', failed));
    },
    free,
    log,
  });
}
