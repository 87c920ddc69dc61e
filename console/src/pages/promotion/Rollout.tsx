/** Traffic on its way to a new release: both beside each other, what the test says, and three acts. */
import { percent } from '../../../../src/core/cutover/percent';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useMemo } from 'react';
import { durationText } from '../../../../src/core/durations';
import { atLeast } from '../../../../src/core/states';
import type { Cutover } from '../../../../src/wire/environments/cutover';
import type { Me } from '../../../../src/wire/people';
import { get, paths, post, Refusal } from '../../data/api';
import { Button, EnvironmentCrumbs, Empty, Loading, Trouble } from '../../parts/basics';
import { Chart, type ChartLine } from '../../parts/Chart';
import { Chip } from '../../parts/Mark';
import { Mirrored } from './Mirrored';
import { Steps } from './Steps';
import { Tests } from './Tests';
import { when } from './Rules';

const msText = (ms: number): string => `${ms < 10 ? Math.round(ms * 10) / 10 : Math.round(ms)} ms`;
const noMarks: [] = [];

/** Milliseconds between two looks at figures that come in all the time. */
const lookMs = 3_000;

function linesOf(one: Cutover | undefined, figure: 'errors' | 'p95'): ChartLine[] {
  if (!one) return [];
  return [
    { label: `r${one.deployment.release}`, values: one.lines.now[figure], colour: 'indigo' },
    ...(one.beside && one.lines.old
      ? [{ label: `r${one.beside.release}`, values: one.lines.old[figure], colour: 'stone' }]
      : []),
  ];
}

export function RolloutPage(): React.ReactNode {
  const { project, environment } = useParams({ strict: false }) as { project: string; environment: string };
  const path = `${paths.environment(project, environment)}/cutover`;
  const client = useQueryClient();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const page = useQuery({
    queryKey: ['cutover', project, environment],
    queryFn: () => get<Cutover>(path),
    refetchInterval: lookMs,
    retry: false,
  });
  // Drawn anew only when something has changed.
  const lines = useMemo(() => ({ errors: linesOf(page.data, 'errors'), p95: linesOf(page.data, 'p95') }), [page.data]);
  const act = useMutation({
    mutationFn: (order: 'stay' | 'go on' | 'back') => post<Cutover>(path, { order, stage: page.data?.stage }),
    onSuccess: (one) => client.setQueryData(['cutover', project, environment], one),
  });
  const crumbs = <EnvironmentCrumbs project={project} environment={environment} />;
  const over = page.error instanceof Refusal && page.error.problem.code === 'cutover_none';
  if (over || (page.error && !page.data))
    return (
      <>
        {crumbs}
        {over ? (
          <Empty title="No traffic moves in steps now.">
            <Link to="/$project/$environment" params={{ project, environment }}>
              What is live in {environment}
            </Link>
          </Empty>
        ) : (
          <Trouble error={page.error} />
        )}
      </>
    );
  if (!page.data) return <Loading />;
  const one = page.data;
  const release = `r${one.deployment.release}`;
  const beside = one.beside ? `r${one.beside.release}` : null;
  const moving = one.deployment.state === 'cutover' && one.step !== null && !one.deployment.failure;
  const may = moving && me.data?.role ? atLeast(me.data.role, 'releaser') : false;
  const step = one.step === null ? null : one.steps[one.step];
  const from = Date.parse(one.from);
  return (
    <>
      {crumbs}
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          {one.step === null
            ? `${beside ?? 'What was there'} has all of the traffic again`
            : `${release} takes ${percent(one.share)} of the traffic`}
        </h1>
        {one.stepLeftMs !== null && step?.at !== 'all' ? (
          <Chip tone="moving">{durationText(one.stepLeftMs)} left</Chip>
        ) : null}
        {one.split && moving ? (
          <Chip tone="waits">
            {one.better
              ? `${one.better === 'now' ? release : beside} does better`
              : 'none does better, as far as can be seen'}
          </Chip>
        ) : null}
        {one.ordered && moving ? <Chip tone="held">{`${one.ordered.by} said: ${one.ordered.order}`}</Chip> : null}
        {one.watchedUntil && !moving ? <Chip tone="waits">bounds hold until {when(one.watchedUntil)}</Chip> : null}
        {may ? (
          <span className="ml-auto flex flex-wrap gap-2">
            {one.split || one.ordered?.order === 'stay' ? null : (
              <Button disabled={act.isPending} onClick={() => act.mutate('stay')}>
                Stay at {step?.at === 'mirror' ? 'the mirror' : percent(one.share)}
              </Button>
            )}
            <Button disabled={act.isPending} onClick={() => act.mutate('go on')}>
              Go on
            </Button>
            <Button kind="danger" disabled={act.isPending} onClick={() => act.mutate('back')}>
              Back to {beside}
            </Button>
          </span>
        ) : null}
      </div>
      {act.error ? <Trouble error={act.error} /> : null}
      {one.worse || one.waits ? (
        <section className="card mb-3.5 border-ochre px-5 py-3.5" role="status">
          {[one.worse, one.waits].map((issue) =>
            issue ? (
              <p key={issue.code}>
                {issue.says} <span className="text-second">{issue.next}</span>
              </p>
            ) : null,
          )}
        </section>
      ) : null}
      <Steps steps={one.steps} now={one.step} />
      <Mirrored one={one} />
      <div className="mb-3.5 grid gap-3.5 *:min-w-0 lg:grid-cols-2">
        <section className="card px-5 py-3.5" aria-label="Errors">
          <h2 className="mb-1 font-semibold">
            Errors{' '}
            {one.guard?.errors != null ? (
              <span className="font-normal text-second">bound {percent(one.guard.errors)}</span>
            ) : null}
          </h2>
          <Chart
            label="Share of answers that are errors"
            from={from}
            width={one.widthMs}
            lines={lines.errors}
            marks={noMarks}
            format={percent}
            least={one.guard?.errors ?? 0.02}
            height={170}
          />
        </section>
        <section className="card px-5 py-3.5" aria-label="Time to answer">
          <h2 className="mb-1 font-semibold">
            Time to answer, p95{' '}
            {one.guard?.p95Ms != null ? (
              <span className="font-normal text-second">bound {one.guard.p95Ms} ms</span>
            ) : null}
          </h2>
          <Chart
            label="Milliseconds within which 95 of 100 answers begin"
            from={from}
            width={one.widthMs}
            lines={lines.p95}
            marks={noMarks}
            format={msText}
            height={170}
          />
        </section>
      </div>
      <Tests one={one} />
    </>
  );
}
