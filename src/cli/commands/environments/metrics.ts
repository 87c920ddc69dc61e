/** metrics: requests, errors, times, processor and memory of an environment's parts. */
import type { Command } from 'commander';
import { CodedError } from '../../../core/errors/errors.js';
import { durationText, parseDuration } from '../../../core/durations.js';
import type { FigureLines } from '../../../wire/environments/figures.js';
import { environmentPlace, get } from '../../api.js';
import { ago, bytes, faint, plain, say, table } from '../../print.js';
import { type DeliveryOptions, showDelivery } from '../delivery.js';
import { give, type Shared, shared } from '../shared.js';

const bars = '▁▂▃▄▅▆▇█';

type Line = (number | null)[];
type FigureOptions = Shared & { for?: string; part?: string; by?: string };

export function metricsCommand(program: Command): void {
  shared(
    program
      .command('metrics [environment]')
      .description(
        'requests, errors, times, processor and memory of each part, over the last hour or longer; without an environment: how delivery goes, of all projects or of one',
      ),
    'tsunagi metrics sailings/production --for 1d --by instance\n  tsunagi metrics --project sailings --weeks 12',
  )
    .option('--weeks <number>', 'of delivery: how many weeks back; default 12')
    .option('--csv [table]', 'of delivery: delivery, tasks or flaky as comma-separated values')
    .option('--for <duration>', 'how far back: 30m, 6h, 30d; default 1h')
    .option('--part <part>', 'this part alone')
    .option('--by <what>', 'part or instance; default part')
    .action(async (environment: string | undefined, options: FigureOptions & DeliveryOptions) => {
      if (environment === undefined) return showDelivery(options);
      if (options.weeks !== undefined || options.csv !== undefined)
        throw new CodedError('usage', {
          detail: '`--weeks` and `--csv` are for how delivery goes: name no environment with them.',
          command: 'metrics',
        });
      const place = await environmentPlace(environment, options.project);
      const span = parseDuration(options.for ?? '1h');
      if (span === null)
        throw new CodedError('usage', {
          detail: `\`${options.for}\` is not a duration; one looks like 6h.`,
          command: 'metrics',
        });
      if (options.by !== undefined && options.by !== 'part' && options.by !== 'instance')
        throw new CodedError('usage', { detail: '`--by` is part or instance.', command: 'metrics' });
      const query = new URLSearchParams({
        from: new Date(Date.now() - span).toISOString(),
        ...(options.part ? { part: options.part } : {}),
        ...(options.by ? { by: options.by } : {}),
      });
      give(options, await get<FigureLines>(`${place.path}/figures?${query}`), (lines) => show(lines, span));
    });
}

function show({ series, marks, restarts }: FigureLines, span: number): void {
  const times = ({ part, instance }: { part: string; instance: string | null }) =>
    restarts.filter((one) => (instance === null ? one.part === part : one.instance === instance)).length;
  if (series.length === 0) {
    say('Nothing was counted yet.');
    return;
  }
  say(
    table(
      [
        'PART',
        'REQUESTS',
        'ERRORS',
        'P50',
        'P95',
        'P99',
        'CORES',
        'MEMORY',
        'RESTARTS',
        `LAST ${durationText(span).toUpperCase()}`,
      ],
      series.map((one) => [
        plain(one.instance ?? one.part),
        rate(one.whole.requests),
        share(one.whole.errors),
        time(one.whole.p50),
        time(one.whole.p95),
        time(one.whole.p99),
        one.whole.cpu.toFixed(2),
        memoryText(one.whole.memory),
        String(times(one) || ''),
        spark(one.requests.some(Boolean) ? one.requests : one.cpu),
      ]),
    ),
  );
  say(
    faint(
      `Numbers are of the last ${durationText(span)}; memory is the most that was used. The line shows requests, or processor time where there were none.`,
    ),
  );
  for (const one of restarts.slice(0, 3))
    say(`${plain(one.instance)} was started again ${ago(one.at)}${one.issue ? `: ${plain(one.issue.says)}` : ''}`);
  for (const mark of marks.slice(-3)) say(faint(`r${mark.release} went live ${ago(mark.at)} (d${mark.deployment})`));
}

const rate = (value: number | null): string =>
  value === null ? '' : `${value < 10 ? value.toFixed(1) : Math.round(value)}/s`;
const share = (value: number | null): string =>
  value === null ? '' : `${(value * 100).toFixed(value < 0.1 ? 2 : 0)} %`;
const time = (ms: number | null): string =>
  ms === null ? '' : ms < 10 ? `${ms.toFixed(1)} ms` : `${Math.round(ms)} ms`;
const memoryText = (value: number | null): string => (value === null ? '' : bytes(Math.round(value)));

/** A line of forty characters: of each stretch the highest value. */
function spark(line: Line): string {
  const width = 40;
  const stretch = Math.max(1, Math.ceil(line.length / width));
  const tops = Array.from({ length: Math.ceil(line.length / stretch) }, (_, at) =>
    Math.max(-1, ...line.slice(at * stretch, (at + 1) * stretch).map((one) => one ?? -1)),
  );
  const most = Math.max(...tops);
  return tops
    .map((one) => (one < 0 ? ' ' : (bars[most <= 0 ? 0 : Math.round((one / most) * (bars.length - 1))] ?? ' ')))
    .join('');
}
