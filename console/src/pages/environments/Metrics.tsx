/** Requests, errors, times, processor and memory of an environment's parts, live and over 30 days. */
import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { bytesText } from '../../../../src/core/sizes';
import type { FigureLines } from '../../../../src/wire/environments/figures';
import { get, paths } from '../../data/api';
import { Ago, Button, Empty, Loading, Trouble } from '../../parts/basics';
import { Chart, type ChartLine } from '../../parts/Chart';

type Series = FigureLines['series'][number];

const spans = [
  { text: '1 hour', ms: 3_600_000 },
  { text: '6 hours', ms: 6 * 3_600_000 },
  { text: '1 day', ms: 86_400_000 },
  { text: '7 days', ms: 7 * 86_400_000 },
  { text: '30 days', ms: 30 * 86_400_000 },
];
const colours = ['indigo', 'moss', 'ochre', 'vermilion', 'stone', 'second'];
/** Milliseconds after which a chart of the last hour is asked for again. */
const liveMs = 10_000;

export function useFigures(project: string, environment: string, span: number, by: 'part' | 'instance') {
  return useQuery({
    queryKey: ['figures', project, environment, span, by],
    queryFn: () => {
      const query = new URLSearchParams({ from: new Date(Date.now() - span).toISOString(), by });
      return get<FigureLines>(`${paths.environment(project, environment)}/figures?${query}`);
    },
    refetchInterval: span <= 6 * 3_600_000 ? liveMs : 60_000,
    placeholderData: (before) => before,
  });
}

const rate = (value: number): string => `${value < 10 ? value.toFixed(1) : Math.round(value)}/s`;
const percent = (value: number): string => `${(value * 100).toFixed(value < 0.1 ? 2 : 0)} %`;
const time = (ms: number): string => (ms < 10 ? `${ms.toFixed(1)} ms` : `${Math.round(ms)} ms`);
const cores = (value: number): string => value.toFixed(value > 0 && value < 0.1 ? 3 : 2);

/** Points whose mean is said in numbers: one alone may not have come in whole. */
const recent = 3;

/** The mean of the last values that are known. */
function last(values: readonly (number | null)[]): number | null {
  const known = values.filter((one): one is number => one !== null).slice(-recent);
  return known.length ? known.reduce((all, one) => all + one, 0) / known.length : null;
}
/** What all lines come to at each point. */
const sum = (lines: readonly (number | null)[][]): (number | null)[] =>
  Array.from({ length: Math.max(0, ...lines.map((one) => one.length)) }, (_, at) => {
    const known = lines.flatMap((one) => one[at] ?? []);
    return known.length ? known.reduce((all, one) => all + one, 0) : null;
  });

const placed = (data: FigureLines) => ({
  from: Date.parse(data.from),
  width: data.widthMs,
  marks: data.marks.map((one) => ({ at: Date.parse(one.at), text: `r${one.release}` })),
});

/** The part that answers most: its times are shown first. */
const busiest = (data: FigureLines): Series | null =>
  [...data.series].sort((a, b) => (last(sum([b.requests])) ?? -1) - (last(sum([a.requests])) ?? -1))[0] ?? null;

/** Four figures of the last hour, for a glance. */
export function Glance({ project, environment }: { project: string; environment: string }) {
  const { data } = useFigures(project, environment, 3_600_000, 'part');
  const drawn = useMemo(() => {
    if (!data || data.series.length === 0) return null;
    const slow = [...data.series].filter((one) => one.p95.some((value) => value !== null));
    const main = slow.sort((a, b) => (last(b.p95) ?? 0) - (last(a.p95) ?? 0))[0] ?? null;
    const requests = sum(data.series.map((one) => one.requests));
    const errors = requests.map((all, at) =>
      all === null || all === 0
        ? null
        : data.series.reduce((bad, one) => bad + (one.errors[at] ?? 0) * (one.requests[at] ?? 0), 0) / all,
    );
    return {
      place: placed(data),
      requests,
      errors,
      main,
      cpu: sum(data.series.map((one) => one.cpu)),
      memory: sum(data.series.map((one) => one.memory)),
    };
  }, [data]);
  if (!drawn) return null;
  const { place, requests, errors, main, cpu, memory } = drawn;
  const one = (label: string, text: React.ReactNode, lines: ChartLine[], format: (value: number) => string) => (
    <section className="card min-w-0 px-4 py-3" aria-label={label}>
      <h2 className="text-second">{label}</h2>
      <p className="mb-1 text-[17px] font-semibold">{text}</p>
      <Chart label={`${label} of the last hour`} {...place} lines={lines} format={format} height={54} small />
    </section>
  );
  const line = (values: (number | null)[], colour: string): ChartLine[] => [{ label: '', values, colour }];
  const said = (values: (number | null)[], format: (value: number) => string): string => {
    const value = last(values);
    return value === null ? '–' : format(value);
  };
  return (
    <div className="mb-3.5 grid grid-cols-2 gap-3.5 lg:grid-cols-4">
      {one('Requests', said(requests, rate), line(requests, 'indigo'), rate)}
      {one('Errors', said(errors, percent), line(errors, 'vermilion'), percent)}
      {one(
        main ? `Time to answer, ${main.part}` : 'Time to answer',
        main ? (
          <>
            {said(main.p50, time)} <Small>p50</Small> {said(main.p95, time)} <Small>p95</Small>
          </>
        ) : (
          '–'
        ),
        main ? [...line(main.p50, 'stone'), ...line(main.p95, 'indigo')] : [],
        time,
      )}
      {one(
        'Processor and memory',
        <>
          {said(cpu, cores)} <Small>cores</Small> {said(memory, bytesText)}
        </>,
        line(cpu, 'moss'),
        cores,
      )}
    </div>
  );
}

const Small = ({ children }: { children: React.ReactNode }) => (
  <span className="text-[13px] font-medium text-second">{children}</span>
);

export function Metrics({ project, environment }: { project: string; environment: string }) {
  const [span, setSpan] = useState(3_600_000);
  const [by, setBy] = useState<'part' | 'instance'>('part');
  const [chosen, setChosen] = useState<string | null>(null);
  const figures = useFigures(project, environment, span, by);
  const { data } = figures;
  const place = useMemo(() => (data ? placed(data) : null), [data]);
  const name = (one: Series) => one.instance ?? one.part;
  const lines = useMemo(() => {
    const of = (key: 'requests' | 'errors' | 'cpu' | 'memory'): ChartLine[] =>
      (data?.series ?? [])
        .filter((one) => one[key].some((value) => value !== null))
        .map((one, at) => ({
          label: one.instance ?? one.part,
          values: one[key],
          colour: colours[at % colours.length] as string,
        }));
    return { requests: of('requests'), errors: of('errors'), cpu: of('cpu'), memory: of('memory') };
  }, [data]);
  const answering = (data?.series ?? []).filter((one) => one.p50.some((value) => value !== null));
  const timed =
    answering.find((one) => name(one) === chosen) ??
    (data ? (answering.includes(busiest(data) as Series) ? busiest(data) : answering[0]) : null) ??
    null;
  const times = useMemo<ChartLine[]>(
    () =>
      timed
        ? [
            { label: 'p50', values: timed.p50, colour: 'stone' },
            { label: 'p95', values: timed.p95, colour: 'indigo' },
            { label: 'p99', values: timed.p99, colour: 'vermilion' },
          ]
        : [],
    [timed],
  );
  if (figures.error && !data) return <Trouble error={figures.error} />;
  if (!data || !place) return <Loading />;
  const card = (
    title: string,
    of: ChartLine[],
    format: (value: number) => string,
    more: React.ReactNode = null,
  ): React.ReactNode => (
    <section className="card min-w-0 px-4 py-3" aria-label={title}>
      <header className="mb-1 flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">{title}</h2>
        {more}
      </header>
      {of.length ? (
        <Chart label={`${title} over time`} {...place} lines={of} format={format} height={190} />
      ) : (
        <p className="py-8 text-center text-second">Nothing was counted in this time.</p>
      )}
    </section>
  );
  return (
    <>
      <div className="mb-3.5 flex flex-wrap gap-2">
        {spans.map((one) => (
          <Button
            key={one.ms}
            size="compact"
            kind={span === one.ms ? 'chosen' : 'quiet'}
            aria-pressed={span === one.ms}
            onClick={() => setSpan(one.ms)}
          >
            {one.text}
          </Button>
        ))}
        <span className="ml-auto flex gap-2">
          {(['part', 'instance'] as const).map((one) => (
            <Button
              key={one}
              size="compact"
              kind={by === one ? 'chosen' : 'quiet'}
              aria-pressed={by === one}
              onClick={() => setBy(one)}
            >
              by {one}
            </Button>
          ))}
        </span>
      </div>
      {data.series.length === 0 ? (
        <Empty title="Nothing was counted in this time.">
          Figures come every ten seconds from whatever answers or runs here.
        </Empty>
      ) : (
        <div className="grid gap-3.5 lg:grid-cols-2">
          {card('Requests', lines.requests, rate)}
          {card('Errors', lines.errors, percent)}
          {card(
            'Time to answer',
            times,
            time,
            answering.map((one) => (
              <Button
                key={name(one)}
                size="tiny"
                kind={one === timed ? 'chosen' : 'quiet'}
                aria-pressed={one === timed}
                onClick={() => setChosen(name(one))}
              >
                {name(one)}
              </Button>
            )),
          )}
          {card('Processor, cores', lines.cpu, cores)}
          {card('Memory', lines.memory, bytesText)}
          <Restarts list={data.restarts} />
        </div>
      )}
    </>
  );
}

/** Programs that ended by themselves and were started again: how often, and why the last ones. */
function Restarts({ list }: { list: FigureLines['restarts'] }) {
  const counts = new Map<string, number>();
  for (const { instance } of list) counts.set(instance, (counts.get(instance) ?? 0) + 1);
  return (
    <section className="card min-w-0 px-4 py-3" aria-label="Restarts">
      <h2 className="mb-1 font-semibold">Restarts</h2>
      {list.length ? (
        <>
          <p className="mb-1">
            {[...counts]
              .map(([instance, count]) => `${instance} ${count} ${count === 1 ? 'time' : 'times'}`)
              .join(' · ')}
          </p>
          <ul>
            {list.slice(0, shownRestarts).map((one) => (
              <li key={`${one.at} ${one.instance}`} className="border-t border-faint py-1">
                <span className="font-semibold">{one.instance}</span>{' '}
                <span className="text-second">
                  <Ago at={one.at} />
                </span>{' '}
                {one.issue?.says}
              </li>
            ))}
          </ul>
        </>
      ) : (
        <p className="py-8 text-center text-second">No program has ended by itself in this time.</p>
      )}
    </section>
  );
}
const shownRestarts = 4;
