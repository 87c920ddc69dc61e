/** Lines over time, with the deployments that went live marked on them. */
import { useEffect, useRef } from 'react';
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { useTheme } from '../data/theme';

export interface ChartLine {
  label: string;
  /** One a point; null where nothing is known. */
  values: (number | null)[];
  /** A colour of the theme, such as `indigo`. */
  colour: string;
}

export interface ChartProps {
  /** What it shows, for those who can't see it. */
  label: string;
  /** Milliseconds since the epoch of the first point, and between two. */
  from: number;
  width: number;
  lines: ChartLine[];
  marks: { at: number; text: string }[];
  format: (value: number) => string;
  height: number;
  /** The highest value that is shown at least; left out: that of the lines. */
  least?: number;
  /** Without axes and legend: for a glance. */
  small?: boolean;
}

/** What stands at a tick of the time: the day where a day begins or each is one, else the time of day, with seconds where they differ. */
const clock =
  (ticks: readonly number[]) =>
  (second: number): string => {
    const at = new Date(second * 1_000);
    const step = (ticks[1] ?? 0) - (ticks[0] ?? 0);
    const midnight = at.getHours() === 0 && at.getMinutes() === 0 && at.getSeconds() === 0;
    return step >= 86_400 || midnight
      ? at.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
      : at.toLocaleTimeString('en-GB', {
          hour: '2-digit',
          minute: '2-digit',
          ...(step < 60 ? { second: '2-digit' } : {}),
        });
  };

/** Rows of names of deployments at the top of a chart. */
const mostRows = 3;

const colourOf = (name: string): string =>
  getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/** Labels of an axis; ticks that round to the label before them have none. */
const labelsOf = (ticks: readonly number[], format: (value: number) => string): string[] => {
  const labels = ticks.map((one) => format(one));
  return labels.map((label, at) => (at > 0 && label === labels[at - 1] ? '' : label));
};

export function Chart({ label, from, width, lines, marks, format, height, least = 0, small = false }: ChartProps) {
  const place = useRef<HTMLDivElement>(null);
  const theme = useTheme();
  const empty = !small && lines.every((one) => one.values.every((value) => value === null));
  // biome-ignore lint/correctness/useExhaustiveDependencies: its colours are read from the theme
  useEffect(() => {
    const box = place.current;
    if (!box) return;
    const points = Math.max(0, ...lines.map((one) => one.values.length));
    const times = Array.from({ length: points }, (_, at) => (from + at * width) / 1_000);
    const second = colourOf('second');
    const axis = {
      stroke: second,
      grid: { stroke: colourOf('faint'), width: 1 },
      ticks: { show: false },
      font: '12px sans-serif',
    };
    const marked: uPlot.Plugin = {
      hooks: {
        draw: (plot) => {
          const { ctx, bbox } = plot;
          ctx.save();
          ctx.strokeStyle = colourOf('ochre');
          ctx.font = `${11 * devicePixelRatio}px sans-serif`;
          // The axes have left their own.
          ctx.textAlign = 'left';
          ctx.textBaseline = 'alphabetic';
          ctx.setLineDash([3 * devicePixelRatio, 3 * devicePixelRatio]);
          const shown = marks
            .map((mark) => ({ text: mark.text, x: plot.valToPos(mark.at / 1_000, 'x', true) }))
            .filter(({ x }) => x >= bbox.left && x <= bbox.left + bbox.width);
          for (const { x } of shown) {
            ctx.beginPath();
            ctx.moveTo(x, bbox.top);
            ctx.lineTo(x, bbox.top + bbox.height);
            ctx.stroke();
          }
          let taken = Number.NEGATIVE_INFINITY;
          let row = 0;
          // A glance has no room for names.
          for (const { text, x } of small ? [] : shown) {
            const wide = ctx.measureText(text).width + 8 * devicePixelRatio;
            const begin = x + wide < bbox.left + bbox.width ? x + 4 * devicePixelRatio : x - wide;
            // Names that would lie over each other stand below each other; of a crowd the first have one.
            row = begin < taken ? row + 1 : 0;
            taken = Math.max(taken, begin + wide);
            if (row >= mostRows) continue;
            const top = bbox.top + 12 * row * devicePixelRatio;
            // The lines of others do not cross it.
            ctx.fillStyle = colourOf('sheet');
            ctx.fillRect(begin - devicePixelRatio, top, wide - 6 * devicePixelRatio, 12 * devicePixelRatio);
            ctx.fillStyle = colourOf('ochre');
            ctx.fillText(text, begin, top + 10 * devicePixelRatio);
          }
          ctx.restore();
        },
      },
    };
    const plot = new uPlot(
      {
        width: box.clientWidth,
        height,
        plugins: [marked],
        cursor: { show: !small, y: false },
        legend: { show: !small, live: !small },
        // On the right there is room for half of the last time.
        padding: small ? [4, 0, 4, 0] : [8, 30, 0, 0],
        scales: {
          y: { range: (_plot, _low, high) => [0, Math.max(least, high) > 0 ? Math.max(least, high) * 1.08 : 1] },
        },
        axes: small
          ? [{ show: false }, { show: false }]
          : [
              { ...axis, values: (_plot, ticks) => ticks.map(clock(ticks)) },
              { ...axis, size: 64, values: (_plot, ticks) => labelsOf(ticks, format) },
            ],
        series: [
          { value: (_plot, second) => (second === null ? '–' : new Date(second * 1_000).toLocaleString()) },
          ...lines.map((one) => ({
            label: one.label,
            stroke: colourOf(one.colour),
            width: 1.75,
            spanGaps: false,
            points: { show: false },
            value: (_plot: uPlot, value: number | null) => (value === null ? '–' : format(value)),
          })),
        ],
      },
      [times, ...lines.map((one) => one.values)] as uPlot.AlignedData,
      box,
    );
    const watching = new ResizeObserver(() => plot.setSize({ width: box.clientWidth, height }));
    watching.observe(box);
    return () => {
      watching.disconnect();
      plot.destroy();
    };
  }, [from, width, lines, marks, format, height, least, small, theme]);
  if (empty)
    return (
      <p className="grid place-items-center text-second" style={{ height }}>
        No figures yet.
      </p>
    );
  return <div ref={place} role="img" aria-label={label} className="min-w-0" />;
}
