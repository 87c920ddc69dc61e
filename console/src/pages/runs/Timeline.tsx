/** A run's tasks in time. The names on the longest way through it are underlined: its time depends on them. */
import { useState } from 'react';
import { durationText } from '../../../../src/core/durations';
import { forecast } from '../../../../src/core/plan/forecast';
import type { RunDetail, Task } from '../../../../src/wire/runs';
import { useNow } from '../../data/live';
import { Mark } from '../../parts/Mark';

export function Timeline({ run, chosen, choose }: { run: RunDetail; chosen: string; choose: (name: string) => void }) {
  const going = run.state === 'running' || run.state === 'waiting';
  const now = useNow(250, going);
  const from = Date.parse(run.createdAt);
  const to = run.endedAt ? Date.parse(run.endedAt) : Math.max(now, from + (run.expectedMs ?? 0));
  const span = Math.max(1, to - from);
  const ticks = tickTimes(span);
  const path = new Set(longestWay(run.taskList));
  const [whole, setWhole] = useState(false);
  const rows = whole ? run.taskList : foremost(run.taskList, chosen);
  const folded = run.taskList.filter((task) => !rows.includes(task));
  const at = (time: number) => `${Math.min(100, ((time - from) / span) * 100)}%`;
  return (
    <section className="card mb-3.5 overflow-x-auto px-5 pt-3 pb-3" aria-label="Tasks in time">
      <div className="grid grid-cols-[minmax(5rem,8rem)_1fr_auto] items-center gap-x-2 sm:min-w-[34rem] sm:grid-cols-[minmax(7rem,10rem)_1fr_minmax(6rem,9rem)] sm:gap-x-0">
        <span />
        <div className="relative mb-1 h-5 text-[12px] text-third">
          {ticks.map((ms) => (
            <span key={ms} className="absolute max-sm:even:hidden" style={{ left: at(from + ms) }}>
              {ms === 0 ? '0 s' : durationText(ms).replace('.0 s', ' s')}
            </span>
          ))}
        </div>
        <span className="text-right text-[12px] text-second">
          {going && run.expectedMs ? `expected ${durationText(run.expectedMs)}` : ''}
        </span>
        {rows.map((task) => (
          <button
            key={task.name}
            type="button"
            data-row
            aria-pressed={task.name === chosen}
            onClick={() => choose(task.name)}
            className={`col-span-3 grid cursor-pointer grid-cols-subgrid items-center rounded px-1 py-1 text-left ${task.name === chosen ? 'bg-indigo-wash' : 'hover:bg-faint'}`}
          >
            <span className="flex min-w-0 items-center gap-2">
              <Mark
                state={task.state}
                share={task.startedAt && task.expectedMs ? (now - Date.parse(task.startedAt)) / task.expectedMs : 0.5}
              />
              <span
                className={`truncate ${task.name === chosen ? 'font-semibold' : ''} ${path.has(task.name) ? 'underline decoration-indigo decoration-2 underline-offset-4' : ''}`}
              >
                {task.name}
              </span>
              {path.has(task.name) ? <span className="sr-only">, the time of the run depends on it</span> : null}
            </span>
            <span className="relative h-4 border-l border-faint">
              {(task.state === 'reused' ? [] : task.attempts)
                .filter((one) => one.startedAt)
                .map((one) => {
                  // An attempt that is shared may have begun before this run did.
                  const start = Math.max(from, Date.parse(one.startedAt as string));
                  const end = one.endedAt ? Date.parse(one.endedAt) : now;
                  const tone =
                    one.state === 'passed'
                      ? 'bg-moss'
                      : one.state === 'failed'
                        ? 'bg-vermilion'
                        : one.state === 'running'
                          ? 'bg-ochre'
                          : 'bg-stone';
                  return (
                    <span
                      key={one.id}
                      className={`absolute top-1 h-2 min-w-1 rounded ${tone}`}
                      style={{ left: at(start), width: `${(Math.max(0, end - start) / span) * 100}%` }}
                    />
                  );
                })}
            </span>
            <span
              className={`text-right whitespace-nowrap ${task.state === 'failed' ? 'text-vermilion' : 'text-second'} max-sm:text-[13px]`}
            >
              {taskTime(task, now)}
            </span>
          </button>
        ))}
      </div>
      {folded.length || whole ? (
        <button
          type="button"
          aria-expanded={whole}
          onClick={() => setWhole(!whole)}
          className="mt-1 cursor-pointer px-1 text-[13px] text-indigo hover:underline"
        >
          {whole
            ? `Show the foremost of ${run.taskList.length} tasks`
            : `Show ${folded.length} more: ${countsOf(folded)}`}
        </button>
      ) : null}
    </section>
  );
}

/** Rows of a timeline before it folds, so that the log below stays in sight. */
const rowsAtMost = 12;

/** What people look for first: what failed or runs, then what took long; in the order of the run, with the chosen one. */
export function foremost(tasks: readonly Task[], chosen: string): readonly Task[] {
  if (tasks.length <= rowsAtMost) return tasks;
  const ms = (task: Task) =>
    task.startedAt
      ? (task.endedAt ? Date.parse(task.endedAt) : Number.MAX_SAFE_INTEGER) - Date.parse(task.startedAt)
      : 0;
  const rank = (task: Task) =>
    task.name === chosen ? 0 : task.state === 'failed' ? 1 : task.state === 'running' ? 2 : 3;
  const kept = new Set([...tasks].sort((a, b) => rank(a) - rank(b) || ms(b) - ms(a)).slice(0, rowsAtMost));
  return tasks.filter((task) => kept.has(task));
}

/** `150 reused, 34 passed`. */
function countsOf(tasks: readonly Task[]): string {
  const counts = new Map<string, number>();
  for (const { state } of tasks) counts.set(state, (counts.get(state) ?? 0) + 1);
  return [...counts].map(([state, count]) => `${count} ${state}`).join(', ');
}

function taskTime(task: Task, now: number): string {
  if (task.state === 'reused') return task.reusedFrom ? `reused, run ${task.reusedFrom}` : 'reused';
  const tries = task.attempts.length > 1 ? `${task.attempts.length} attempts · ` : '';
  if (!task.startedAt) return task.state;
  return (
    (task.flaky ? 'flaky · ' : '') +
    tries +
    durationText((task.endedAt ? Date.parse(task.endedAt) : now) - Date.parse(task.startedAt))
  );
}

function tickTimes(span: number): number[] {
  const step =
    [
      100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_200_000,
      3_600_000,
    ].find((one) => span / one <= 6) ?? 7_200_000;
  return Array.from({ length: Math.floor((span * 0.95) / step) + 1 }, (_, at) => at * step);
}

/** By the times that tasks took, or should take. One task alone is no way. */
function longestWay(tasks: readonly Task[]): string[] {
  const ms = (task: Task) =>
    task.state === 'reused'
      ? 0
      : task.startedAt && task.endedAt
        ? Date.parse(task.endedAt) - Date.parse(task.startedAt)
        : (task.expectedMs ?? 1);
  const { path } = forecast(tasks.map((task) => ({ name: task.name, needs: task.needs, ms: ms(task) })));
  return path.length > 1 ? path : [];
}
