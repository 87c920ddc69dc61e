/** One deployment: its steps in time, what it printed, and its instances. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router';
import { durationText } from '../../../../src/core/durations';
import type { Deployment, DeploymentDetail } from '../../../../src/wire/environments/environments';
import { get, paths, post } from '../../data/api';
import { useLog } from '../../data/log';
import type { Search } from '../../data/search';
import { Ago, Button, Empty, EnvironmentCrumbs, Loading, ReleaseLink, short, Trouble } from '../../parts/basics';
import { Chip, Mark } from '../../parts/Mark';
import { Log } from '../runs/Log';

interface Work {
  id: string;
  name: string;
  state: string;
  failed: boolean;
  says: string | null;
  /** Milliseconds; null while it goes on. */
  took: number | null;
  /** That it printed; null: not counted. */
  lines: number | null;
  path: string;
  download: string | null;
}

export function DeploymentPage(): React.ReactNode {
  const { project, number } = useParams({ strict: false }) as { project: string; number: string };
  const search = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const path = `${paths.project(project)}/deployments/${encodeURIComponent(number)}`;
  const shown = useQuery({
    queryKey: ['deployment', project, number],
    queryFn: () => get<DeploymentDetail>(path),
    // Its work begins and ends without events.
    refetchInterval: (query) => (query.state.data?.moving ? 1_500 : false),
  });
  const stop = useMutation({ mutationFn: () => post<Deployment>(`${path}/stop`), onSettled: () => shown.refetch() });
  if (shown.error && !shown.data) return <Trouble error={shown.error} />;
  if (!shown.data) return <Loading />;
  const one = shown.data;
  const works = worksOf(one);
  const chosen =
    works.find(({ id }) => id === search.attempt) ??
    works.findLast(({ failed }) => failed) ??
    works.find(({ lines }) => lines !== 0) ??
    works[0] ??
    null;
  return (
    <>
      <EnvironmentCrumbs project={project} environment={one.environment} />
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          d{one.number} brings <ReleaseLink project={project} number={one.release} />
        </h1>
        <Chip tone={one.state}>{one.state}</Chip>
        <span className="text-second">
          <span className="code">{short(one.commit.id)}</span> {one.commit.title} · {one.kind} by {one.actor} ·{' '}
          <Ago at={one.createdAt} />
        </span>
        {one.moving && one.failure === null ? (
          <Button disabled={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </Button>
        ) : null}
      </div>
      {stop.error ? <Trouble error={stop.error} /> : null}
      {one.failure ? (
        <p className="mb-3.5">
          <span className="text-vermilion">{one.failure.says}</span>{' '}
          <span className="text-second">{one.failure.next}</span>
        </p>
      ) : null}
      <div className="grid gap-3.5 *:min-w-0 lg:grid-cols-[22rem_1fr]">
        <div className="flex flex-col gap-3.5">
          <Steps one={one} />
          <Works
            works={works}
            chosen={chosen}
            choose={(id) =>
              navigate({
                to: '/$project/deployments/$number',
                params: { project, number },
                search: { attempt: id } as never,
                replace: true,
              })
            }
          />
        </div>
        {chosen ? (
          <Printed key={chosen.id} work={chosen} />
        ) : (
          <Empty title="It has printed nothing.">
            <Link to="/$project/$environment" params={{ project, environment: one.environment }}>
              Open {one.environment}
            </Link>
          </Empty>
        )}
      </div>
    </>
  );
}

const between = (from: string | null, to: string | null): number | null =>
  from && to ? Date.parse(to) - Date.parse(from) : null;

function worksOf(one: DeploymentDetail): Work[] {
  return [
    ...one.attempts.map((attempt) => ({
      id: attempt.id,
      name: attempt.part ? `${attempt.kind} ${attempt.part}` : attempt.kind,
      state: attempt.state,
      failed: attempt.state === 'failed' || attempt.state === 'lost',
      says: attempt.issue?.says ?? null,
      took: between(attempt.startedAt, attempt.endedAt),
      lines: attempt.logLines,
      path: `/api/attempts/${attempt.id}/log`,
      download: `/api/attempts/${attempt.id}/log/text`,
    })),
    ...one.instances.map((instance) => ({
      id: instance.id,
      name: `${instance.part}/${instance.position}`,
      state: instance.state,
      failed: instance.issue !== null,
      says: instance.issue?.says ?? null,
      took: between(instance.createdAt, instance.readyAt),
      lines: null,
      path: `/api/instances/${instance.id}/log`,
      download: null,
    })),
  ];
}

function Steps({ one }: { one: DeploymentDetail }) {
  return (
    <section className="card px-5 py-3.5" aria-label="Steps">
      <h2 className="mb-1 font-semibold">Steps</h2>
      <ol>
        {one.steps.map((step, at) => {
          const took = between(step.at, one.steps[at + 1]?.at ?? null);
          return (
            <li key={`${step.at} ${step.what}`} className="border-b border-faint py-1.5 last:border-0">
              <span className="flex items-baseline justify-between gap-2">
                <span>
                  {step.what}
                  {at === 0 ? <span className="text-second"> by {step.by}</span> : null}
                </span>
                <span className="text-[13px] whitespace-nowrap text-second">
                  <time dateTime={step.at} title={step.at}>
                    {step.at.slice(11, 19)} UTC
                  </time>
                  {took === null ? '' : ` · ${durationText(took)}`}
                </span>
              </span>
              {step.issue && step.issue.says !== one.failure?.says ? (
                <span className="block text-[13px] text-vermilion">{step.issue.says}</span>
              ) : null}
            </li>
          );
        })}
      </ol>
    </section>
  );
}

function Works({ works, chosen, choose }: { works: Work[]; chosen: Work | null; choose(id: string): void }) {
  if (works.length === 0) return null;
  return (
    <section className="card px-5 py-3.5" aria-label="What it printed">
      <h2 className="mb-1 font-semibold">What it printed</h2>
      <ul>
        {works.map((work) => (
          <li key={work.id} className="border-b border-faint last:border-0">
            <button
              type="button"
              aria-pressed={work.id === chosen?.id}
              className={`flex min-h-9 w-full items-center gap-2 py-1 text-left hover:underline ${work.id === chosen?.id ? 'font-semibold' : ''}`}
              onClick={() => choose(work.id)}
            >
              <Mark state={work.state} />
              <span className="code flex-1">{work.name}</span>
              <span className="text-[13px] text-second">{work.took === null ? '' : durationText(work.took)}</span>
            </button>
            {work.says ? <p className="pb-1.5 text-[13px] text-vermilion">{work.says}</p> : null}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Printed({ work }: { work: Work }) {
  const log = useLog(work.path);
  return (
    <Log lines={log.lines} over={log.over} opening={work.failed} line={null} point={null} download={work.download} />
  );
}
