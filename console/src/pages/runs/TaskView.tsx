/** The chosen task of a run: its attempts, commands, tests and inputs, and its log. */
import { Fold } from '../../parts/fields';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { durationText } from '../../../../src/core/durations';
import { shareText } from '../../../../src/core/results/coverage';
import type { RunCoverage, RunDetail, Task } from '../../../../src/wire/runs';
import type { WhyRunView, WhyTaskView } from '../../../../src/wire/why';
import { get, paths } from '../../data/api';
import { useLog } from '../../data/log';
import { Ago, Button, short, Trouble } from '../../parts/basics';
import { Log } from './Log';
import { Mark } from '../../parts/Mark';

interface TaskViewProps {
  run: RunDetail;
  task: Task;
  /** Id of the attempt that the address names, or null for the newest. */
  chosen: string | null;
  line: number | null;
  /** Puts an attempt or a line into the address. */
  point(change: { attempt?: string; line?: number }): void;
}

export function TaskView({ run, task, chosen, line, point }: TaskViewProps) {
  const attempt = task.attempts.find((one) => one.id === chosen) ?? task.attempts.at(-1) ?? null;
  const failed = task.state === 'failed';
  const why = useQuery({
    queryKey: ['why', run.project, run.number, run.state],
    queryFn: () => get<WhyRunView>(`${paths.run(run.project, run.number)}/why`),
    enabled: failed,
  });
  const judged = why.data?.failed.find((one) => one.task === task.name)?.tests ?? [];
  const log = useLog(attempt && attempt.state !== 'waiting' ? `/api/attempts/${attempt.id}/log` : null);
  return (
    <div className="grid gap-3.5 *:min-w-0 lg:grid-cols-[22rem_1fr]">
      <section className="card h-fit overflow-hidden" aria-label={`Task ${task.name}`}>
        <header className="flex items-baseline justify-between gap-2 border-b border-faint px-4 py-2.5">
          <h2 className="text-[15px] font-semibold">{task.name}</h2>
          <span className="text-[13px] text-second">
            {attempt
              ? `${task.state === 'reused' ? `reused from run ${task.reusedFrom ?? '?'}` : attempt.state}${attempt.agent ? ` · ${attempt.agent}` : ''}`
              : task.state}
          </span>
        </header>
        {task.attempts.length > 1 ? (
          <div className="flex flex-wrap gap-1.5 border-b border-faint px-4 py-2" role="group" aria-label="Attempts">
            {task.attempts.map((one) => (
              <Button
                key={one.id}
                aria-pressed={one.id === attempt?.id}
                size="tiny"
                kind={one.id === attempt?.id ? 'chosen' : 'plain'}
                className="flex items-center gap-1.5"
                onClick={() => point({ attempt: one.id })}
              >
                <Mark state={one.state} /> attempt {one.number}
              </Button>
            ))}
          </div>
        ) : null}
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
            <span className="text-vermilion">{task.issue.says}</span>{' '}
            <span className="text-second">{task.issue.next}</span>
          </p>
        ) : null}
        {task.tests ? <Tests tests={task.tests} judged={judged} /> : null}
        {task.covers && task.endedAt ? <Covered run={run} task={task} /> : null}
        {failed && why.data?.since ? <Since since={why.data.since} /> : null}
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
        {task.fingerprint ? <Inputs run={run} task={task} /> : null}
      </section>
      <Log
        lines={log.lines}
        over={log.over || !attempt}
        opening={failed}
        line={line}
        point={(number) =>
          point({
            line: number,
            ...(attempt && attempt.id !== task.attempts.at(-1)?.id ? { attempt: attempt.id } : {}),
          })
        }
        download={attempt ? `/api/attempts/${attempt.id}/log/text` : null}
      />
    </div>
  );
}

/** How much of the code its tests ran: of what the change touches first. */
function Covered({ run, task }: { run: RunDetail; task: Task }) {
  const { data } = useQuery({
    queryKey: ['coverage', run.project, run.number, task.name, task.state],
    queryFn: () => get<RunCoverage>(`${paths.run(run.project, run.number)}/coverage`),
  });
  const mine = data?.tasks.find((one) => one.task === task.name);
  if (!mine) return null;
  const missed = mine.changed?.files.filter((one) => one.missed) ?? [];
  return (
    <div className="border-b border-faint px-4 py-2.5">
      <p className="flex justify-between gap-2">
        <span className="font-semibold">Coverage</span>
        <span className="whitespace-nowrap text-second">{shareText(mine)}</span>
      </p>
      {mine.changed?.found ? (
        <p className="flex justify-between gap-2 text-[13px]">
          <span>of what the change touches</span>
          <span className="whitespace-nowrap text-second">{shareText(mine.changed)}</span>
        </p>
      ) : null}
      {missed.slice(0, 20).map((one) => (
        <p key={one.path} className="code mt-1 text-[12px] break-all">
          {one.path} <span className="text-second">not run: {one.missed.replaceAll(',', ', ')}</span>
        </p>
      ))}
      {missed.length > 20 ? <p className="text-[13px] text-second">and {missed.length - 20} more files</p> : null}
    </div>
  );
}

function Tests({
  tests,
  judged,
}: {
  tests: NonNullable<Task['tests']>;
  judged: WhyRunView['failed'][number]['tests'];
}) {
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
      {failed.slice(0, 20).map((one) => {
        const past = judged.find((other) => other.group === one.group && other.name === one.name);
        return (
          <div key={`${one.group} ${one.name}`} className="mt-2.5 border-l-[3px] border-vermilion pl-3">
            <p className="font-semibold">
              {one.group} {one.name}
            </p>
            {past ? (
              <p className="text-[13px] text-second">
                {past.standing === 'new'
                  ? 'new: it did not fail before'
                  : `${past.standing}: failed in ${past.failedBefore} of the last ${past.seenBefore}`}
              </p>
            ) : null}
            {one.place ? <p className="code text-[12px] break-all text-second">{one.place}</p> : null}
            <p className="line-clamp-4 text-[13px] whitespace-pre-wrap">{one.message}</p>
          </div>
        );
      })}
      {failed.length > 20 ? <p className="mt-2 text-second">and {failed.length - 20} more</p> : null}
    </div>
  );
}

/** What has changed since the newest run that passed. */
function Since({ since }: { since: NonNullable<WhyRunView['since']> }) {
  return (
    <div className="border-b border-faint px-4 py-2.5 text-[13px]">
      <p className="font-semibold">Since run {since.run} passed</p>
      <ul className="mt-1 flex flex-col gap-0.5 text-second">
        {since.commits.slice(0, 5).map((one) => (
          <li key={one.id} className="truncate">
            <span className="code">{short(one.id)}</span> {one.title}
          </li>
        ))}
        {since.commits.length > 5 ? <li>and {since.commits.length - 5} more commits</li> : null}
        {since.files.count ? (
          <li className="code text-[12px] break-all">
            {since.files.paths.slice(0, 4).join(', ')}
            {since.files.count > 4 ? ` and ${since.files.count - 4} more` : ''}
          </li>
        ) : null}
        {since.tools.map((one) => (
          <li key={`${one.input} ${one.name}`}>
            {one.name ?? 'the agent’s base'}: {one.before?.slice(0, 12) ?? 'none'} → {one.now?.slice(0, 12) ?? 'none'}
          </li>
        ))}
        {since.variables.length ? <li>variables: {since.variables.join(', ')}</li> : null}
        {!since.commits.length && !since.tools.length && !since.variables.length ? (
          <li>nothing that is recorded</li>
        ) : null}
      </ul>
    </div>
  );
}

/** What its fingerprint is made of, and what differs from the time before; asked for when it is opened. */
function Inputs({ run, task }: { run: RunDetail; task: Task }) {
  const [open, setOpen] = useState(false);
  const why = useQuery({
    queryKey: ['why-task', run.project, run.number, task.name, task.state],
    queryFn: () => get<WhyTaskView>(`${paths.run(run.project, run.number)}/tasks/${encodeURIComponent(task.name)}/why`),
    enabled: open,
  });
  const compared = why.data?.comparedWith;
  return (
    <Fold
      className="border-t border-faint px-4 py-2.5 text-[13px]"
      title="Inputs"
      titleClass="font-semibold"
      opened={setOpen}
    >
      {why.error ? <Trouble error={why.error} /> : null}
      {why.data ? (
        <>
          <p className="mt-1 text-second">
            {compared
              ? why.data.differences.length
                ? `Since run ${compared.run} this differs, the first thing first:`
                : `The same as in run ${compared.run}.`
              : 'It has not run before.'}
          </p>
          <ul className="mt-1 flex flex-col gap-1">
            {why.data.differences.map((one) => (
              <li key={`${one.input} ${one.name}`}>
                <span className="font-semibold">{one.says}</span>
                {one.files ? null : (
                  <span className="code block break-all text-second">
                    {one.before ?? 'nothing'} → {one.now ?? 'nothing'}
                  </span>
                )}
              </li>
            ))}
          </ul>
          {/* A box that scrolls must be reached by the keyboard. */}
          <pre tabIndex={0} className="code mt-2 max-h-60 overflow-auto text-[12px] text-second">
            {JSON.stringify(why.data.inputs, null, 1)}
          </pre>
        </>
      ) : null}
    </Fold>
  );
}
