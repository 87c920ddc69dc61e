/** What parts of these sizes come to in a month, before any of them runs. */
import { reckonedMemory, type Size } from '../scale/sizes.js';
import type { Prices } from './cost.js';

/** Hours of a month: a twelfth of a year. */
export const monthHours = 730;

export interface MonthAhead {
  /** If each takes as much memory as it is reckoned with, for a month. */
  memory: number;
  /** If each takes all the processor that it may; null: some may take whatever is free. */
  processorAtMost: number | null;
}

export function monthAhead(sizes: readonly Size[], prices: Prices): MonthAhead {
  const gib = 1024 ** 3;
  const memory = sizes.reduce((sum, one) => sum + one.instances * (one.memory ?? reckonedMemory), 0) / gib;
  const unlimited = sizes.some((one) => one.cpu === null && one.instances > 0);
  const cores = sizes.reduce((sum, one) => sum + one.instances * (one.cpu ?? 0), 0);
  return {
    memory: memory * prices.memory * monthHours,
    processorAtMost: unlimited ? null : cores * prices.cpu * monthHours,
  };
}
