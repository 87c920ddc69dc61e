/** Figures of delivery in words. */
import { durationText } from '../durations.js';

/** A length in milliseconds to two figures: it is known to within 5 %. */
export const roughText = (ms: number): string => durationText(rough(ms));

const steps: [from: number, to: number][] = [
  [864_000_000, 86_400_000],
  [36_000_000, 3_600_000],
  [3_600_000, 600_000],
  [600_000, 60_000],
  [60_000, 10_000],
  [10_000, 1_000],
];
function rough(ms: number): number {
  const unit = steps.find(([from]) => ms >= from)?.[1] ?? 100;
  return Math.round(ms / unit) * unit;
}

/** How a length has changed: 1.2 is a fifth longer. Nothing where it is not known. */
export function trendText(trend: number | null): string {
  if (trend === null) return '';
  const by = Math.round((trend - 1) * 100);
  return Math.abs(by) < 5 ? 'as before' : by > 0 ? `${by} % longer` : `${-by} % shorter`;
}
