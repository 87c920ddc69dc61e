/** One figure over weeks: a bar or a point each. The last week is not over. */
import { roughText } from '../../../../src/core/delivery/words';

/** `23 Nov` of `2026-11-23`. */
export const weekText = (monday: string): string =>
  new Date(`${monday}T00:00:00Z`).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' });

export const lengthText = (ms: number | null): string => (ms === null ? '–' : roughText(ms));
export const shareText = (share: number | null): string => (share === null ? '–' : `${Math.round(share * 100)} %`);

const [wide, high] = [240, 56];

/** Null: nothing is known of that week. */
export function WeekBars({
  label,
  weeks,
  values,
  format,
  colour = 'indigo',
  small = false,
}: {
  label: string;
  weeks: readonly string[];
  values: readonly (number | null)[];
  format: (value: number | null) => string;
  colour?: 'indigo' | 'vermilion' | 'moss' | 'ochre';
  small?: boolean;
}) {
  const top = Math.max(...values.map((one) => one ?? 0), 0);
  const step = wide / Math.max(1, values.length);
  const told = values.map((value, at) => `${weekText(weeks[at] ?? '')} ${format(value)}`).join(', ');
  return (
    <svg
      viewBox={`0 0 ${wide} ${high}`}
      className={`w-full ${small ? 'h-6' : 'h-14'}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`${label} by week: ${told}`}
    >
      <line x1="0" x2={wide} y1={high - 0.5} y2={high - 0.5} stroke="var(--line)" vectorEffect="non-scaling-stroke" />
      {values.map((value, at) => {
        const tall = value === null || top === 0 ? 0 : Math.max(value > 0 ? 2 : 0, (value / top) * (high - 6));
        return (
          <g key={weeks[at]}>
            <title>{`${weekText(weeks[at] ?? '')}: ${format(value)}`}</title>
            <rect x={at * step} y="0" width={step} height={high} fill="transparent" />
            <rect
              x={at * step + step * 0.15}
              y={high - tall}
              width={step * 0.7}
              height={tall}
              fill={`var(--${colour})`}
              opacity={at === values.length - 1 ? 0.5 : 1}
            />
          </g>
        );
      })}
    </svg>
  );
}
