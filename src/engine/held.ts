/** Work outside of transactions on a row that is held: its lease is renewed for as long as the work goes on. */
import { type Held, type HeldTable, holdLonger } from '../records/held.js';
import type { Context } from './context.js';

export async function whileHeld<T>(
  { records, timing }: Pick<Context, 'records' | 'timing'>,
  table: HeldTable,
  row: Held,
  work: () => Promise<T>,
): Promise<T> {
  const renewing = setInterval(
    () => void holdLonger(records, table, row, timing.lease).catch(() => {}),
    timing.lease / 3,
  );
  try {
    return await work();
  } finally {
    clearInterval(renewing);
  }
}
