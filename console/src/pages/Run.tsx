/** One run: its tasks in time, the chosen task's commands and tests, its log. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router';
import { durationText } from '../../../src/core/durations';
import type { Run, RunDetail, Task } from '../../../src/wire/api';
import { get, paths, post } from '../data/api';
import { useNow } from '../data/live';
import { useLog } from '../data/log';
import { Ago, Button, Loading, short, Trouble } from '../parts/basics';
import { Log } from '../parts/Log';
import { Chip, Mark } from '../parts/Mark';

export function RunPage(): React.ReactNode {
  const { project, number } = useParams({ strict: false }) as { project: string; number: string };
  const search = useSearch({ strict: false }) as { task?: string; attempt?: number };
  const navigate = useNavigate();
  const run = useQuery({ queryKey: ['run', project, number], queryFn: () => get<RunDetail>(paths.run(project, number)) });
  const again = useMutation({
    mutationFn: (one: RunDetail) =>
      post<Run>(`/api/projects/${encodeURIComponent(project)}/runs`, { ref: one.pullRequest ? `pr-${one.pullRequest}` : one.commit.id }),
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
      <p className="mb-1 text-second">
        <Link to="/runs" search={{ project } as never} className="no-underline hover:underline">
          {project}
        </Link>{' '}
        / runs
      </p>
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
            <Button kind="main" onClick={() => again.mutate(one)}>
              Allow this commit
            </Button>
          ) : null}
          {going ? null : <Button onClick={() => again.mutate(one)}>Run again</Button>}
        </span>
      </div>
      {again.error || stop.error ? <Trouble error={again.error ?? stop.error} /> : null}
      {one.issue ? <Issues run={one} /> : null}
      {one.warnings.length ? (
        <details className="mb-3.5 text-second">
          <summary className="cursor-pointer">
            {one.warnings.length === 1 ? 'One thing to look at in the definition' : `${one.warnings.length} things to look at in the definition`}
          </summary>
          <ul className="mt-1 list-disc pl-6">
            {one.warnings.map((warning) => (
              <li key={warning.says}>
                {warning.says} {warning.next}
              </li>
            ))}
          </ul>
        </details>
      ) : null}
      {one.taskList.length ? (
        <Timeline run={one} chosen={task?.name ?? ''} choose={(name) => navigate({ to: '.', search: { task: name } as never, replace: true })} />
      ) : null}
      {task ? <TaskView key={task.name} task={task} /> : null}
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

function Timeline({ run, chosen, choose }: { run: RunDetail; chosen: string; choose: (name: string) => void }) {
  const going = run.state === 'running' || run.state === 'waiting';
  const now = useNow(250, going);
  const from = Date.parse(run.createdAt);
  const to = run.endedAt ? Date.parse(run.endedAt) : Math.max(now, from + (run.expectedMs ?? 0));
  const span = Math.max(1, to - from);
  const ticks = tickTimes(span);
  const at = (time: number) => `${Math.min(100, ((time - from) / span) * 100)}%`;
  return (
    <section className="card mb-3.5 overflow-x-auto px-5 pt-3 pb-3" aria-label="Tasks in time">
      <div className="grid min-w-[34rem] grid-cols-[minmax(7rem,10rem)_1fr_minmax(6rem,9rem)] items-center">
        <span />
        <div className="relative mb-1 h-5 text-[12px] text-third">
          {ticks.map((ms) => (
            <span key={ms} className="absolute" style={{ left: at(from + ms) }}>
              {ms === 0 ? '0 s' : durationText(ms).replace('.0 s', ' s')}
            </span>
          ))}
        </div>
        <span className="text-right text-[12px] text-second">{going && run.expectedMs ? `expected ${durationText(run.expectedMs)}` : ''}</span>
        {run.taskList.map((task) => (
          <button
            key={task.name}
            type="button"
            data-row
            aria-pressed={task.name === chosen}
            onClick={() => choose(task.name)}
            className={`col-span-3 grid cursor-pointer grid-cols-subgrid items-center rounded px-1 py-1 text-left ${task.name === chosen ? 'bg-indigo-wash' : 'hover:bg-faint'}`}
          >
            <span className="flex items-center gap-2">
              <Mark state={task.state} share={task.startedAt && task.expectedMs ? (now - Date.parse(task.startedAt)) / task.expectedMs : 0.5} />
              <span className={task.name === chosen ? 'font-semibold' : ''}>{task.name}</span>
            </span>
            <span className="relative h-4 border-l border-faint">
              {task.attempts
                .filter((one) => one.startedAt)
                .map((one) => {
                  const start = Date.parse(one.startedAt as string);
                  const end = one.endedAt ? Date.parse(one.endedAt) : now;
                  const tone = one.state === 'passed' ? 'bg-moss' : one.state === 'failed' ? 'bg-vermilion' : one.state === 'running' ? 'bg-ochre' : 'bg-stone';
                  return (
                    <span
                      key={one.id}
                      className={`absolute top-1 h-2 min-w-1 rounded ${tone}`}
                      style={{ left: at(start), width: `${((end - start) / span) * 100}%` }}
                    />
                  );
                })}
            </span>
            <span className={`text-right whitespace-nowrap ${task.state === 'failed' ? 'text-vermilion' : 'text-second'}`}>{taskTime(task, now)}</span>
          </button>
        ))}
      </div>
    </section>
  );
}

function taskTime(task: Task, now: number): string {
  const tries = task.attempts.length > 1 ? `${task.attempts.length} attempts · ` : '';
  if (!task.startedAt) return task.state;
  return tries + durationText((task.endedAt ? Date.parse(task.endedAt) : now) - Date.parse(task.startedAt));
}

function tickTimes(span: number): number[] {
  const step =
    [100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_200_000, 3_600_000].find((one) => span / one <= 6) ??
    7_200_000;
  return Array.from({ length: Math.floor((span * 0.95) / step) + 1 }, (_, at) => at * step);
}

function TaskView({ task }: { task: Task }) {
  const attempt = task.attempts.at(-1) ?? null;
  const log = useLog(attempt && attempt.state !== 'waiting' ? `/api/attempts/${attempt.id}/log` : null);
  return (
    <div className="grid gap-3.5 *:min-w-0 lg:grid-cols-[22rem_1fr]">
      <section className="card h-fit overflow-hidden" aria-label={`Task ${task.name}`}>
        <header className="flex items-baseline justify-between gap-2 border-b border-faint px-4 py-2.5">
          <h2 className="text-[15px] font-semibold">{task.name}</h2>
          <span className="text-[13px] text-second">
            {attempt
              ? `${task.attempts.length > 1 ? `attempt ${attempt.number} of ${task.attempts.length}` : attempt.state}${attempt.agent ? ` · ${attempt.agent}` : ''}`
              : task.state}
          </span>
        </header>
        {attempt?.commands.map((command, at) => (
          <div key={`${at} ${command.text}`} className="flex items-start gap-2.5 border-b border-faint px-4 py-2">
            <span className="pt-0.5">
              <Mark state={command.state} />
            </span>
            <span className="code min-w-0 flex-1 break-words whitespace-pre-wrap">
              {command.text.length > 240 ? `${command.text.slice(0, 240)}…` : command.text}
            </span>
            <span className="text-right text-[13px] text-second">
              {command.ms === null ? '' : durationText(command.ms)}
              {command.exit ? <span className="block text-vermilion">exit {command.exit}</span> : null}
            </span>
          </div>
        ))}
        {task.issue && task.state !== 'passed' && task.issue.code !== 'command_failed' ? (
          <p className="px-4 py-2.5">
            <span className="text-vermilion">{task.issue.says}</span> <span className="text-second">{task.issue.next}</span>
          </p>
        ) : null}
        {task.tests ? <Tests tests={task.tests} /> : null}
        <dl className="grid grid-cols-[5.5rem_1fr] gap-y-0.5 px-4 py-2.5 text-[13px] text-second">
          <dt>reads</dt>
          <dd>{task.files} files</dd>
          <dt>needs</dt>
          <dd>{task.needs.join(', ') || 'nothing'}</dd>
          {task.fingerprint ? (
            <>
              <dt>fingerprint</dt>
              <dd className="code truncate">{task.fingerprint.slice(0, 16)}</dd>
            </>
          ) : null}
          {task.endedAt ? (
            <>
              <dt>ended</dt>
              <dd>
                <Ago at={task.endedAt} />
              </dd>
            </>
          ) : null}
        </dl>
      </section>
      <Log lines={log.lines} over={log.over || !attempt} opening={task.state === 'failed'} />
    </div>
  );
}

function Tests({ tests }: { tests: NonNullable<Task['tests']> }) {
  const failed = tests.cases.filter((one) => one.state === 'failed');
  return (
    <div className="border-b border-faint px-4 py-2.5">
      <p className="flex justify-between">
        <span className="font-semibold">Tests</span>
        <span className="text-second">
          {tests.passed} passed{tests.failed ? <span className="text-vermilion"> · {tests.failed} failed</span> : ''}
          {tests.skipped ? ` · ${tests.skipped} skipped` : ''}
        </span>
      </p>
      {failed.slice(0, 20).map((one) => (
        <div key={`${one.group} ${one.name}`} className="mt-2.5 border-l-[3px] border-vermilion pl-3">
          <p className="font-semibold">
            {one.group} {one.name}
          </p>
          {one.place ? <p className="code text-[12px] text-second">{one.place}</p> : null}
          <p className="line-clamp-4 text-[13px] whitespace-pre-wrap">{one.message}</p>
        </div>
      ))}
    </div>
  );
}
