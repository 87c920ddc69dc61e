/** `why task NAME --since rN`: which commit broke it. Ended in the middle, the next call goes on with what is known by then. */
import { CodedError } from '../../core/errors/errors.js';
import type { Run, RunDetail } from '../../wire/runs.js';
import type { SinceView } from '../../wire/why.js';
import { get, post } from '../api.js';
import { bold, faint, plain, say, short } from '../print.js';
import { give, numberOf, type Shared } from './shared.js';

/** Milliseconds between two looks at a run. */
const askMs = 500;

export async function whySince(
  project: string,
  task: string,
  options: Shared & { since: string; ref?: string },
): Promise<void> {
  const release = numberOf(options.since, 'r');
  if (release === null)
    throw new CodedError('usage', { detail: `\`${options.since}\` is no release; write r12.`, command: 'why' });
  const base = `/api/projects/${encodeURIComponent(project)}`;
  const query = new URLSearchParams({ release: String(release), ...(options.ref ? { ref: options.ref } : {}) });
  const look = () => get<SinceView>(`${base}/tasks/${encodeURIComponent(task)}/since?${query}`);
  const tell = (...lines: string[]) => options.json || say(...lines);
  let one = await look();
  while (one.state === 'ask' && one.next) {
    const { next } = one;
    const run = one.going ?? (await post<Run>(`${base}/runs`, { ref: next.id })).number;
    tell(
      `run ${run}: ${short(next.id)} ${plain(next.title)}  ${faint(`${one.left} may be it, ${one.steps} ${one.steps === 1 ? 'run' : 'runs'} to go at most`)}`,
    );
    // What is asked is known as soon as the task has ended; the rest of the run goes on by itself.
    for (;;) {
      one = await look();
      if (one.next?.id !== next.id || one.state !== 'ask') break;
      const { endedAt } = await get<RunDetail>(`${base}/runs/${run}`);
      if (endedAt !== null) {
        one = await look();
        if (one.next?.id === next.id && one.going === null)
          throw new CodedError('since_untold', { run, task, commit: short(next.id) });
        break;
      }
      await new Promise((resolve) => setTimeout(resolve, askMs));
    }
  }
  give(options, one, (last) => say(...linesOf(last)));
}

function linesOf(one: SinceView): string[] {
  const task = bold(plain(one.task));
  if (one.state === 'good') return [`${task} passes at ${short(one.head.id)}: nothing broke it since r${one.release}.`];
  if (one.state === 'unclear')
    return [
      `Runs of ${short(one.head.id)} ended without telling whether ${task} passes.`,
      `Look at them, and start another with: tsunagi run start ${short(one.head.id)}`,
    ];
  const { first } = one;
  if (!first) return [];
  return [
    `${task} is broken since ${bold(short(first.id))} ${plain(first.title)}`,
    `by ${plain(first.author)}${first.pull === null ? '' : `, pull request ${first.pull}`}; \`tsunagi why run ${first.run}\` says how`,
    faint(`One of ${one.commits} ${one.commits === 1 ? 'commit' : 'commits'} since r${one.release}.`),
    ...(one.doubt.length
      ? [
          '',
          'These before it could not be judged, and it may be one of them:',
          ...one.doubt.map((other) => `  ${short(other.id)} ${plain(other.title)}`),
        ]
      : []),
  ];
}
