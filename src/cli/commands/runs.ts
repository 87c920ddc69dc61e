/** Commands of runs: list, show, start, again, stop. */
import type { Command } from 'commander';
import { CodedError } from '../../core/errors.js';
import type { PageOf, Run, RunDetail } from '../../wire/api.js';
import { get, post, projectName } from '../api.js';
import { ago, bold, faint, plain, say, short, state, table, took } from '../print.js';
import { give, numberOf, placeOfRun, type Shared, shared } from './shared.js';

export function runCommands(program: Command): void {
  const run = program.command('run').description('passes through a commit’s tasks');
  shared(run.command('list').description('runs, the newest first'), 'tsunagi run list --state failed')
    .option('--state <state>', 'only runs in this state')
    .option('--branch <branch>', 'only runs of this branch')
    .option('--limit <n>', 'how many', '20')
    .action(async (options: Shared & { state?: string; branch?: string; limit: string }) => {
      const query = new URLSearchParams({ limit: options.limit });
      for (const key of ['project', 'state', 'branch'] as const) if (options[key]) query.set(key, options[key]);
      give(options, await get<PageOf<Run>>(`/api/runs?${query}`), ({ items }) =>
        say(
          table(
            ['RUN', 'PROJECT', 'STATE', 'OF', 'COMMIT', 'TOOK', 'WHEN', 'TITLE'],
            items.map((one) => [
              String(one.number),
              one.project,
              state(one.state),
              placeOfRun(one),
              short(one.commit.id),
              took(one.createdAt, one.endedAt),
              ago(one.createdAt),
              plain(one.commit.title),
            ]),
          ),
        ),
      );
    });
  shared(run.command('show <number>').description('one run with its tasks'), 'tsunagi run show 131 --project sailings').action(
    async (text: string, options: Shared) => {
      const number = numberOf(text, '');
      if (!number) throw new CodedError('usage', { detail: `\`${text}\` is no number of a run.`, command: 'run show' });
      give(options, await get<RunDetail>(`/api/projects/${await projectName(options.project)}/runs/${number}`), showRun);
    },
  );
  shared(
    run.command('start <ref>').description('run a branch, commit or pull request (pr-N); permits an untrusted commit that waits'),
    'tsunagi run start main --project sailings',
  )
    .option('--without-reuse', 'run every task, whatever has passed before')
    .option('--fresh <task...>', 'run these tasks, whatever has passed before')
    .action(async (ref: string, options: Shared & { withoutReuse?: boolean; fresh?: string[] }) => {
      const body = { ref, ...(options.withoutReuse ? { reuse: false } : {}), ...(options.fresh ? { tasks: options.fresh } : {}) };
      give(options, await post<Run>(`/api/projects/${await projectName(options.project)}/runs`, body), started);
    });
  shared(
    run.command('again <number> [task]').description('another run of the same commit: what failed runs anew, and the named task too'),
    'tsunagi run again 131 unit',
  ).action(async (text: string, task: string | undefined, options: Shared) =>
    give(options, await post<Run>(`/api/projects/${await projectName(options.project)}/runs/${numberOf(text, '') ?? 0}/again`, task ? { task } : {}), started),
  );
  shared(run.command('stop <number>').description('end a run and every process of it'), 'tsunagi run stop 131').action(async (text: string, options: Shared) =>
    give(options, await post<Run>(`/api/projects/${await projectName(options.project)}/runs/${numberOf(text, '') ?? 0}/stop`), (one) =>
      say(`run ${one.number} is being stopped`),
    ),
  );
}

const started = (one: Run): void =>
  say(`run ${one.number} of ${short(one.commit.id)} ${plain(one.commit.title)}`, faint(`tsunagi follow ${one.number} --project ${one.project}`));

function showRun(run: RunDetail): void {
  say(
    `${bold(`run ${run.number}`)} ${state(run.state)}  ${short(run.commit.id)} ${plain(run.commit.title)}  ${faint(`${placeOfRun(run)} · ${took(run.createdAt, run.endedAt)}`)}`,
  );
  if (run.issue) say(plain(run.issue.says), faint(plain(run.issue.next)));
  if (run.waits) say(plain(run.waits.says), faint(plain(run.waits.next)));
  if (run.trimmedAt) say(faint('Its logs and outputs are not kept any more.'));
  for (const one of run.definitionIssues) say(`  tsunagi.yaml:${one.line}:${one.column}  ${plain(one.says)} ${faint(plain(one.next))}`);
  for (const one of run.warnings) say(faint(`  ${plain(one.says)}`));
  if (run.taskList.length)
    say(
      table(
        ['TASK', 'STATE', 'TOOK', 'TESTS', 'WHY'],
        run.taskList.map((task) => [
          task.name,
          state(task.state),
          took(task.startedAt, task.endedAt),
          task.tests ? `${task.tests.passed} passed, ${task.tests.failed} failed` : '',
          plain(task.issue?.says ?? (task.reusedFrom ? `the pass of run ${task.reusedFrom} counts` : task.flaky ? 'flaky: it failed before it passed' : '')),
        ]),
      ),
    );
  for (const task of run.taskList) {
    for (const test of task.tests?.cases.filter((one) => one.state === 'failed').slice(0, 10) ?? [])
      say(
        `  ${state('failed')} ${plain(test.group)} ${bold(plain(test.name))} ${faint(plain(test.place))}`,
        `         ${plain(test.message.split('\n')[0] ?? '')}`,
      );
  }
  if (run.release) say(`It became ${bold(`r${run.release}`)}.`);
}
