/** One run: its tasks in time, the chosen task's commands and tests, its log. */
import { Fold } from '../../parts/fields';
import type { Search } from '../../data/search';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router';
import type { Run, RunDetail } from '../../../../src/wire/runs';
import { get, paths, post } from '../../data/api';
import { Button, Crumbs, Loading, short, Trouble } from '../../parts/basics';
import { Chip } from '../../parts/Mark';
import { TaskView } from './TaskView';
import { Timeline } from './Timeline';

export function RunPage(): React.ReactNode {
  const { project, number } = useParams({ strict: false }) as { project: string; number: string };
  const search = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const run = useQuery({
    queryKey: ['run', project, number],
    queryFn: () => get<RunDetail>(paths.run(project, number)),
  });
  const again = useMutation({
    mutationFn: ({ one, way }: { one: RunDetail; way: 'allow' | 'again' | 'whole' }) =>
      way === 'again'
        ? post<Run>(`${paths.run(project, number)}/again`)
        : way === 'allow'
          ? post<Run>(`${paths.project(project)}/commits/${one.commit.id}/allow`)
          : post<Run>(`/api/projects/${encodeURIComponent(project)}/runs`, {
              ref: one.pullRequest ? `pr-${one.pullRequest}` : one.commit.id,
              ...(way === 'whole' ? { reuse: false } : {}),
            }),
    onSuccess: (fresh) => navigate({ to: '/$project/runs/$number', params: { project, number: String(fresh.number) } }),
  });
  const stop = useMutation({ mutationFn: () => post(`${paths.run(project, number)}/stop`) });
  if (run.error && !run.data) return <Trouble error={run.error} />;
  if (!run.data) return <Loading />;
  const one = run.data;
  const going = one.state === 'running' || one.state === 'waiting';
  const task =
    one.taskList.find((item) => item.name === search.task) ??
    one.taskList.find((item) => item.state === 'failed') ??
    one.taskList.find((item) => item.state === 'running') ??
    one.taskList.at(-1) ??
    null;
  return (
    <>
      <Crumbs project={project}>
        <Link to="/runs" search={{ project } as never} className="no-underline hover:underline">
          runs
        </Link>
      </Crumbs>
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          run {one.number} {one.commit.title}
        </h1>
        <Chip tone={one.state}>{one.state}</Chip>
        <span className="code text-second">
          {short(one.commit.id)} · {one.pullRequest ? `pr-${one.pullRequest}` : one.branch}
        </span>
        {one.release ? (
          <span className="text-second">
            became <span className="code font-semibold text-ink">r{one.release}</span>
          </span>
        ) : null}
        <span className="ml-auto flex gap-2">
          {going && one.allowed ? <Button onClick={() => stop.mutate()}>Stop</Button> : null}
          {going && !one.allowed ? (
            <Button kind="main" onClick={() => again.mutate({ one, way: 'allow' })}>
              Allow this commit
            </Button>
          ) : null}
          {going ? null : (
            <>
              <Button onClick={() => again.mutate({ one, way: 'whole' })}>Run without reuse</Button>
              <Button onClick={() => again.mutate({ one, way: 'again' })}>
                {one.state === 'failed' ? 'Run again what failed' : 'Run again'}
              </Button>
            </>
          )}
        </span>
      </div>
      {again.error || stop.error ? <Trouble error={again.error ?? stop.error} /> : null}
      {one.issue ? <Issues run={one} /> : null}
      {one.waits ? (
        <p role="status" className="mb-3.5 rounded-md bg-ochre-wash px-4 py-3 text-ochre">
          {one.waits.says} <span className="text-ink">{one.waits.next}</span>
        </p>
      ) : null}
      {one.trimmedAt ? (
        <p className="mb-3.5 text-second">Its logs and outputs are not kept any more; what it came to is.</p>
      ) : null}
      {one.warnings.length ? (
        <Fold
          className="mb-3.5 text-second"
          title={
            one.warnings.length === 1
              ? 'One thing to look at in the definition'
              : `${one.warnings.length} things to look at in the definition`
          }
        >
          <ul className="mt-1 list-disc pl-6">
            {one.warnings.map((warning) => (
              <li key={warning.says}>
                {warning.says} {warning.next}
              </li>
            ))}
          </ul>
        </Fold>
      ) : null}
      {one.taskList.length ? (
        <Timeline
          run={one}
          chosen={task?.name ?? ''}
          choose={(name) => navigate({ to: '.', search: { task: name } as never, replace: true })}
        />
      ) : null}
      {task ? (
        <TaskView
          key={task.name}
          run={one}
          task={task}
          chosen={search.attempt ?? null}
          line={search.line ?? null}
          point={(change) => navigate({ to: '.', search: { task: task.name, ...change } as never, replace: true })}
        />
      ) : null}
    </>
  );
}

function Issues({ run }: { run: RunDetail }) {
  return (
    <div className={`mb-3.5 rounded-md px-4 py-3 ${run.state === 'failed' ? 'bg-vermilion-wash' : 'bg-ochre-wash'}`}>
      <p className={`font-semibold ${run.state === 'failed' ? 'text-vermilion' : 'text-ochre'}`}>{run.issue?.says}</p>
      <p>{run.issue?.next}</p>
      {run.definitionIssues.length ? (
        <ul className="code mt-2">
          {run.definitionIssues.map((one) => (
            <li key={`${one.line}:${one.column}:${one.code}`}>
              tsunagi.yaml:{one.line}:{one.column} {one.says} <span className="text-second">{one.next}</span>
            </li>
          ))}
        </ul>
      ) : null}
    </div>
  );
}
