/** Figures of delivery in words. */

/** How a length has changed: 1.2 is a fifth longer. Nothing where it is not known. */
export function trendText(trend: number | null): string {
  if (trend === null) return '';
  const by = Math.round((trend - 1) * 100);
  return Math.abs(by) < 5 ? 'as before' : by > 0 ? `${by} % longer` : `${-by} % shorter`;
}
