/** What is live where, is it well, what waits, what can I do. */
import { useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import type { Board } from '../../../../src/wire/overview';
import type { Environment } from '../../../../src/wire/environments/environments';
import type { Run } from '../../../../src/wire/runs';
import { durationText } from '../../../../src/core/durations';
import { get } from '../../data/api';
import { useNow } from '../../data/live';
import { Ago, Empty, Loading, Since, short, Trouble } from '../../parts/basics';
import { Chip, Mark } from '../../parts/Mark';
import { SmallPicture } from '../reviews/Pictures';
import { Thread, type ThreadPlace } from '../runs/Thread';

export function BoardPage(): React.ReactNode {
  const board = useQuery({ queryKey: ['board'], queryFn: () => get<Board>('/api/board') });
  if (board.error && !board.data) return <Trouble error={board.error} />;
  if (!board.data) return <Loading />;
  const { projects, agents, edges } = board.data;
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center justify-between gap-2">
        <h1 className="title">What is live where</h1>
        <Link
          to="/add"
          className="order-last rounded-md border border-line bg-sheet px-3 py-1 font-semibold no-underline hover:bg-faint"
        >
          Add a project
        </Link>
        <p className="ml-auto text-second">
          {projects.length} {projects.length === 1 ? 'project' : 'projects'} ·{' '}
          {agents.alive === agents.total
            ? 'all agents good'
            : `${agents.total - agents.alive} of ${agents.total} agents silent`}
          {edges.alive === edges.total ? '' : ` · ${edges.total - edges.alive} of ${edges.total} edges silent`}
        </p>
      </div>
      {projects.length === 0 ? (
        <Empty title="There is no project yet.">
          <Link to="/add" className="font-semibold text-indigo">
            From a repository to its first live address
          </Link>
          , or <span className="code">tsunagi project add NAME --from ADDRESS</span>.
        </Empty>
      ) : null}
      <div className="flex flex-col gap-3.5">
        {projects.map((project) => (
          <ProjectThread key={project.name} project={project} />
        ))}
      </div>
    </>
  );
}

type Project = Board['projects'][number];

function ProjectThread({ project }: { project: Project }) {
  const places: ThreadPlace[] = [
    {
      key: 'main',
      knot: project.run ? 'live' : 'empty',
      content: <MainPlace project={project} />,
      between: onItsWay(project),
    },
    ...project.environments.map((environment): ThreadPlace => {
      const next = project.environments.find((one) => one.after === environment.name);
      return {
        key: environment.name,
        knot: environment.moving ? 'moving' : environment.live ? 'live' : 'empty',
        content: <EnvironmentPlace environment={environment} />,
        ...(next ? { between: <Waiting environment={next} /> } : {}),
      };
    }),
  ];
  return (
    <section className="card px-5 pt-4 pb-4" aria-label={project.name}>
      <div className="mb-2 flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-[15px] font-semibold">
          <Link data-row to="/$project" params={{ project: project.name }} className="no-underline hover:underline">
            {project.name}
          </Link>
        </h2>
        <span className="code text-second">
          {project.source} · {project.mainBranch}
        </span>
      </div>
      <Thread places={places} />
      {project.issue ? (
        <p className="mt-3 text-vermilion">
          {project.issue.says} <span className="text-second">{project.issue.next}</span>
        </p>
      ) : null}
      {project.reviews.length ? <Reviews reviews={project.reviews} /> : null}
    </section>
  );
}

function MainPlace({ project }: { project: Project }) {
  const { run } = project;
  return (
    <>
      <p className="text-[15px] font-semibold">{project.mainBranch}</p>
      {run ? <RunLine run={run} /> : <p className="text-second">nothing pushed yet</p>}
    </>
  );
}

function RunLine({ run }: { run: Run }) {
  const going = run.state === 'running' || run.state === 'waiting';
  const now = useNow(500, going);
  const spent = now - Date.parse(run.createdAt);
  const share = run.expectedMs ? spent / run.expectedMs : 0.5;
  const left = run.expectedMs && run.expectedMs > spent ? ` · ${durationText(run.expectedMs - spent)} left` : '';
  const took = run.endedAt ? durationText(Date.parse(run.endedAt) - Date.parse(run.createdAt)) : '';
  return (
    <>
      <p className="flex items-center gap-1.5">
        <Mark state={run.state} share={share} />
        <Link
          data-row
          to="/$project/runs/$number"
          params={{ project: run.project, number: String(run.number) }}
          className="font-semibold no-underline hover:underline"
        >
          run {run.number}
        </Link>
        <span className="text-second">{going ? `${run.tasks.ended} of ${run.tasks.total} tasks${left}` : took}</span>
      </p>
      <p className="truncate text-second">
        {run.issue && run.state !== 'passed' ? (
          <span className="text-vermilion">{run.issue.says}</span>
        ) : (
          run.commit.title
        )}
      </p>
      {going ? (
        <div className="mt-1.5 h-1 w-56 max-w-full rounded bg-faint">
          <div className="h-1 rounded bg-ochre" style={{ width: `${Math.min(100, share * 100)}%` }} />
        </div>
      ) : null}
    </>
  );
}

function onItsWay(project: Project) {
  const moving = project.environments.find((one) => one.branch !== null)?.moving;
  if (moving) return <Chip tone="moving">r{moving.release} on its way</Chip>;
  return project.run?.state === 'running' ? <Chip tone="">1 on its way</Chip> : null;
}

function EnvironmentPlace({ environment }: { environment: Environment }) {
  const { live, failed, moving, instances } = environment;
  return (
    <>
      <p className="flex flex-wrap items-center gap-1.5">
        <Link
          data-row
          to="/$project/$environment"
          params={{ project: environment.project, environment: environment.name }}
          className="text-[15px] font-semibold no-underline hover:underline"
        >
          {environment.name}
        </Link>
        {live || environment.serving ? (
          <Chip tone={environment.health}>{environment.health}</Chip>
        ) : (
          <Chip tone="">empty</Chip>
        )}
        {environment.held ? <Chip tone="held">on hold</Chip> : null}
        {environment.freeze ? <Chip tone="held">frozen</Chip> : null}
        {live?.override ? <Chip tone="held">overridden</Chip> : null}
        {failed ? <Chip tone="failed">r{failed.release} failed</Chip> : null}
      </p>
      {live ? (
        <>
          <p className="text-second">
            <span className="code font-semibold text-ink">r{live.release}</span>{' '}
            {environment.verified ? 'verified · ' : ''}
            {failed ? 'still serving · ' : ''}
            <Since at={live.liveAt} what="live" />
          </p>
          <p className="truncate text-second">{live.commit.title}</p>
          {environment.picture?.small ? (
            <Link
              to="/$project/$environment"
              params={{ project: environment.project, environment: environment.name }}
              tabIndex={-1}
              className="mt-1.5 block"
            >
              <SmallPicture small={environment.picture.small} of={environment.name} />
            </Link>
          ) : null}
          {failed?.failure ? <p className="text-vermilion">{failed.failure.says}</p> : null}
          {environment.held ? <p className="text-ochre">{environment.held.why}</p> : null}
          {environment.freeze ? <p className="text-ochre">{environment.freeze.why}</p> : null}
          {live.override ? (
            <p className="text-ochre">
              {live.override.why} ({live.override.by})
            </p>
          ) : null}
          {environment.beside ? (
            <p className="text-ochre">
              Not in main: {environment.beside.title}
              {environment.beside.commits > 1 ? ` and ${environment.beside.commits - 1} more` : ''}
            </p>
          ) : null}
          {moving ? (
            <p className="text-ochre">{`r${moving.release} ${moving.state}`}</p>
          ) : instances.asked ? (
            <p className="text-[13px] text-second">{`${instances.ready} of ${instances.asked} instances`}</p>
          ) : null}
        </>
      ) : (
        <p className="text-second">
          {failed?.failure?.says ?? (moving ? `r${moving.release} ${moving.state}` : 'nothing is live here yet')}
        </p>
      )}
    </>
  );
}

function Waiting({ environment }: { environment: Environment }) {
  const { waits, moving } = environment;
  if (moving?.state === 'cutover')
    return (
      <Link
        data-row
        to="/$project/$environment/cutover"
        params={{ project: environment.project, environment: environment.name }}
        className="no-underline"
      >
        <Chip tone="moving">r{moving.release} takes the traffic</Chip>
      </Link>
    );
  if (moving) return <Chip tone="moving">r{moving.release} on its way</Chip>;
  if (!waits) return null;
  return (
    <>
      <span title={waits.why ?? undefined}>
        <Chip tone={waits.allowed ? 'waits' : ''}>
          {waits.allowed
            ? `${waits.pushes} ${waits.pushes === 1 ? 'push waits' : 'pushes wait'}`
            : `r${waits.release} ${waits.whom ? 'needs somebody' : 'waits'}`}
        </Chip>
      </span>
      <Link
        data-row
        to="/$project/$environment/promote"
        params={{ project: environment.project, environment: environment.name }}
        className={`rounded-md px-3.5 py-1.5 font-semibold whitespace-nowrap no-underline ${waits.allowed ? 'bg-indigo text-on-indigo' : 'border border-line'}`}
      >
        {waits.allowed ? `Promote r${waits.release}` : 'Why it waits'}
      </Link>
    </>
  );
}

/** What of a review one sees first: that something comes there, that it failed, that it sleeps, how it is. */
const markOf = (review: Environment): string =>
  review.moving
    ? 'running'
    : review.failed
      ? 'failed'
      : review.state === 'asleep' || review.state === 'falling asleep'
        ? 'asleep'
        : review.state === 'waking'
          ? 'running'
          : review.live
            ? review.health
            : review.state;

function Reviews({ reviews }: { reviews: Environment[] }) {
  return (
    <div className="mt-4 flex flex-wrap items-center gap-2.5 border-t border-dashed border-line pt-3">
      <span className="text-second">Reviews</span>
      {reviews.map((review) => (
        <Link
          key={review.name}
          data-row
          to="/$project/$environment"
          params={{ project: review.project, environment: review.name }}
          className="flex items-center gap-2 rounded-md border border-line bg-paper px-3 py-1 no-underline hover:bg-faint"
        >
          <Mark state={markOf(review)} />
          <span className="font-semibold">{review.name}</span>
          <span className="max-w-52 truncate">{review.pullRequest?.title ?? review.review?.branch}</span>
          <span className="text-second">
            {review.moving
              ? review.moving.state
              : review.state !== 'live'
                ? review.state
                : review.live
                  ? short(review.live.commit.id)
                  : ''}
            {review.review?.dataOf ? (
              <>
                {' · data from '}
                <Ago at={review.review.dataOf} />
              </>
            ) : null}
          </span>
        </Link>
      ))}
      <Link
        to="/reviews"
        search={{ project: reviews[0]?.project ?? '' }}
        className="ml-auto text-second no-underline hover:underline"
      >
        {reviews.length} open
      </Link>
    </div>
  );
}
