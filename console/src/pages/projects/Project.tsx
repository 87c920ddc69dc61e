/** One project: what its next run would do, where its releases are, and its newest runs. */
import type { Search } from '../../data/search';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router';
import { durationText } from '../../../../src/core/durations';
import type { Environment } from '../../../../src/wire/environments/environments';
import type { PageOf } from '../../../../src/wire/parts';
import type { Project } from '../../../../src/wire/projects';
import type { Release } from '../../../../src/wire/releases';
import type { Run } from '../../../../src/wire/runs';
import type { PlanView } from '../../../../src/wire/why';
import { get, paths } from '../../data/api';
import { CostCard } from './CostCard';
import { Ago, Empty, Loading, short, Trouble } from '../../parts/basics';
import { Chip, Mark } from '../../parts/Mark';
import { Draft, ProposeDraft } from './Draft';
import { Upkeep } from '../board/Upkeep';
import { Variables } from '../environments/Variables';

export function ProjectPage(): React.ReactNode {
  const { project: name } = useParams({ strict: false }) as { project: string };
  const base = `/api/projects/${encodeURIComponent(name)}`;
  const project = useQuery({ queryKey: ['project', name], queryFn: () => get<Project>(base) });
  const runs = useQuery({
    queryKey: ['runs', `project=${name}&limit=12`],
    queryFn: () => get<PageOf<Run>>(`/api/runs?project=${encodeURIComponent(name)}&limit=12`),
  });
  const releases = useQuery({
    queryKey: ['releases', name],
    queryFn: () => get<PageOf<Release>>(`${base}/releases?limit=6`),
  });
  const environments = useQuery({
    queryKey: ['environments', name],
    queryFn: () => get<PageOf<Environment>>(`${base}/environments`),
  });
  if (project.error && !project.data) return <Trouble error={project.error} />;
  if (!project.data) return <Loading />;
  const one = project.data;
  return (
    <>
      <div className="mb-4 flex flex-wrap items-baseline gap-x-3">
        <h1 className="title">{one.name}</h1>
        {one.paused ? <Chip tone="held">paused</Chip> : null}
        <span className="code text-second">
          {one.source} · {one.mainBranch}
          {one.folder ? ` · ${one.folder}` : ''}
        </span>
        <a
          href={one.badge}
          className="ml-auto"
          title="The badge of its main branch, for documents: this is its address."
        >
          <img
            src={new URL(one.badge).pathname + new URL(one.badge).search}
            alt={`How the main branch of ${one.name} stands`}
            height="22"
          />
        </a>
      </div>
      {one.issue ? (
        <p role="alert" className="mb-3.5 rounded-md border border-vermilion bg-vermilion-wash px-4 py-2.5">
          <span className="font-semibold text-vermilion">{one.issue.says}</span> {one.issue.next}
        </p>
      ) : null}
      {one.draft ? <Draft project={one.name} /> : null}
      {!one.draft && runs.data?.items[0]?.issue?.code === 'definition_missing' ? (
        <ProposeDraft project={one.name} />
      ) : null}
      {runs.data?.items.length === 0 ? (
        <Empty title="Nothing has been pushed yet.">
          Push to <span className="code break-all">{one.endpoint}</span>, or let the code host tell of pushes there.
        </Empty>
      ) : null}
      <div className="grid gap-3.5 *:min-w-0 lg:grid-cols-[1fr_24rem]">
        <div className="flex flex-col gap-3.5">
          <NextRun project={one} known={Boolean(runs.data?.items.length)} />
          <Variables project={one.name} />
          <section className="card overflow-x-auto" aria-label="Newest runs">
            <header className="flex items-baseline justify-between border-b border-faint px-4 py-2.5">
              <h2 className="text-[15px] font-semibold">Newest runs</h2>
              <Link to="/runs" search={{ project: name } as never} className="text-second">
                all runs
              </Link>
            </header>
            <ul>
              {runs.data?.items.map((run) => (
                <li
                  key={run.number}
                  className="flex items-center gap-2.5 border-b border-faint px-4 py-1.5 last:border-0"
                >
                  <Mark state={run.state} />
                  <Link
                    data-row
                    to="/$project/runs/$number"
                    params={{ project: name, number: String(run.number) }}
                    className="font-semibold whitespace-nowrap no-underline hover:underline"
                  >
                    run {run.number}
                  </Link>
                  <span className="min-w-0 flex-1 truncate">
                    <span className="code text-second">{short(run.commit.id)}</span> {run.commit.title}
                  </span>
                  <span className="text-second">{run.pullRequest ? `pr-${run.pullRequest}` : run.branch}</span>
                  <span className="w-20 text-right whitespace-nowrap text-second">
                    {run.endedAt ? durationText(Date.parse(run.endedAt) - Date.parse(run.createdAt)) : run.state}
                  </span>
                </li>
              ))}
            </ul>
          </section>
        </div>
        <div className="flex flex-col gap-3.5">
          <section className="card px-4 py-3" aria-label="Environments">
            <h2 className="mb-1.5 text-[15px] font-semibold">Environments</h2>
            <ul className="flex flex-col gap-1">
              {environments.data?.items.map((environment) => (
                <li key={environment.name} className="flex items-center gap-2">
                  <Mark
                    state={
                      environment.failed && !environment.moving
                        ? 'failed'
                        : environment.live
                          ? environment.health
                          : environment.state
                    }
                  />
                  <Link
                    data-row
                    to="/$project/$environment"
                    params={{ project: name, environment: environment.name }}
                    className="font-semibold no-underline hover:underline"
                  >
                    {environment.name}
                  </Link>
                  <span className="code text-second">{environment.live ? `r${environment.live.release}` : ''}</span>
                  {environment.held ? <Chip tone="held">on hold</Chip> : null}
                </li>
              ))}
              {environments.data?.items.length === 0 ? (
                <li className="text-second">The definition names none yet.</li>
              ) : null}
            </ul>
          </section>
          <section className="card px-4 py-3" aria-label="Newest releases">
            <h2 className="mb-1.5 text-[15px] font-semibold">Newest releases</h2>
            <ul className="flex flex-col gap-1">
              {releases.data?.items.map((release) => (
                <li key={release.number} className="flex items-baseline gap-2">
                  <span className="code font-semibold">r{release.number}</span>
                  <span className="min-w-0 flex-1 truncate text-second">{release.commit.title}</span>
                  <span className="text-[13px] text-second">
                    <Ago at={release.createdAt} />
                  </span>
                </li>
              ))}
              {releases.data?.items.length === 0 ? <li className="text-second">There is none yet.</li> : null}
            </ul>
          </section>
          <CostCard key={`cost ${one.name}`} project={one.name} />
          <Upkeep key={one.name} project={one} />
        </div>
      </div>
    </>
  );
}

/** What a run of a branch would do now; the branch is in the address. */
function NextRun({ project, known }: { project: Project; known: boolean }) {
  const { ref } = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const wanted = ref ?? project.mainBranch;
  const plan = useQuery({
    queryKey: ['plan', project.name, wanted],
    queryFn: () => get<PlanView>(`${paths.project(project.name)}/plan?ref=${encodeURIComponent(wanted)}`),
    enabled: known,
    retry: false,
  });
  if (!known) return null;
  const reused = plan.data?.tasks.filter((one) => one.will === 'reuse').length ?? 0;
  return (
    <section className="card overflow-x-auto" aria-label="What a run would do">
      <header className="flex flex-wrap items-center gap-2.5 border-b border-faint px-4 py-2.5">
        <h2 className="text-[15px] font-semibold">What a run would do</h2>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            const text = String(new FormData(event.currentTarget).get('ref') ?? '').trim();
            void navigate({ to: '.', search: (text && text !== project.mainBranch ? { ref: text } : {}) as never });
          }}
        >
          <label className="text-second">
            of{' '}
            <input
              name="ref"
              key={wanted}
              defaultValue={wanted}
              aria-label="Branch, commit or pull request"
              className="code w-44 rounded-md border border-line bg-sheet px-2 py-0.5"
            />
          </label>
        </form>
        {plan.data ? (
          <span className="ml-auto text-second">
            {reused === plan.data.tasks.length
              ? 'nothing to run: all of it is reused'
              : `${plan.data.tasks.length - reused} to run, ${reused} reused · ${plan.data.expectedMs === null ? 'time not known yet' : `expected ${durationText(plan.data.expectedMs)}`}`}
          </span>
        ) : null}
      </header>
      {plan.error ? (
        <div className="p-3">
          <Trouble error={plan.error} />
        </div>
      ) : null}
      {plan.isPending && !plan.error ? <Loading /> : null}
      <ul>
        {plan.data?.tasks.map((task) => (
          <li key={task.name} className="flex items-center gap-2.5 border-b border-faint px-4 py-1.5 last:border-0">
            <Mark state={task.will === 'reuse' ? 'reused' : 'ready'} />
            <span
              className={`w-36 truncate font-semibold ${plan.data.path.includes(task.name) && plan.data.path.length > 1 ? 'underline decoration-indigo decoration-2 underline-offset-4' : ''}`}
            >
              {task.name}
            </span>
            <span className="min-w-0 flex-1 truncate text-second">{task.why?.says}</span>
            <span className="text-second">
              {task.will === 'reuse' ? 'reused' : task.expectedMs === null ? '' : durationText(task.expectedMs)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
