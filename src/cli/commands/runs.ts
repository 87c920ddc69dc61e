/** Commands of runs: list, show, start, again, stop. */
import type { Command } from 'commander';
import { shareText } from '../../core/results/coverage.js';
import { CodedError } from '../../core/errors/errors.js';
import { hintFor } from '../../core/nearest.js';
import type { FoundLines, LogChunk } from '../../wire/logs.js';
import type { PageOf } from '../../wire/parts.js';
import type { Run, RunDetail, RunCoverage } from '../../wire/runs.js';
import { get, post, projectName } from '../api.js';
import { ago, bold, faint, plain, printed, say, short, state, table, took } from '../print.js';
import { startFrom } from './forward.js';
import { give, numberOf, placeOfRun, type Shared, shared } from './shared.js';

export function runCommands(program: Command): void {
  const run = program.command('run').description('runs of a commit’s tasks');
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
            ['RUN', 'PROJECT', 'STATE', 'BRANCH', 'COMMIT', 'TOOK', 'WHEN', 'TITLE'],
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
  shared(
    run.command('show <number>').description('one run with its tasks'),
    'tsunagi run show 131 --project sailings',
  ).action(async (text: string, options: Shared) => {
    const number = numberOf(text, '');
    if (!number)
      throw new CodedError('usage', { detail: `\`${text}\` is not the number of a run.`, command: 'run show' });
    const path = `/api/projects/${await projectName(options.project)}/runs/${number}`;
    const shown = await get<RunDetail>(path);
    const coverage = shown.taskList.some((one) => one.covers) ? await get<RunCoverage>(`${path}/coverage`) : null;
    give(options, coverage ? { ...shown, coverage } : shown, () => showRun(shown, coverage));
  });
  shared(
    run
      .command('allow <commit>')
      .description('let a commit of an untrusted pull request run; by its id, and for that commit alone'),
    'tsunagi run allow 3f9a1c20d4e7 --project sailings',
  ).action(async (commit: string, options: Shared) => {
    const project = await projectName(options.project);
    const id = await wholeCommit(project, commit);
    give(options, await post<Run>(`/api/projects/${project}/commits/${id}/allow`), started);
  });
  shared(
    run
      .command('start [ref]')
      .description('run a branch, commit or pull request (pr-N); or begin a branch from what is live, to mend that'),
    'tsunagi run start main --project sailings',
  )
    .option('--without-reuse', 'run every task, whatever has passed before')
    .option('--fresh <task...>', 'run these tasks, whatever has passed before')
    .option('--from <environment>', 'from what is live there: a branch, and the way of what is pushed to it')
    .option('--branch <name>', 'with --from: the name of the branch; default: fix-rN')
    .action(async (ref: string | undefined, options: Shared & Start) => {
      if ((ref === undefined) === (options.from === undefined))
        throw new CodedError('usage', {
          detail: 'Name a branch, commit or pull request, or an environment with --from.',
          command: 'run start',
        });
      if (options.from !== undefined) return startFrom(options.from, options);
      const body = {
        ref,
        ...(options.withoutReuse ? { reuse: false } : {}),
        ...(options.fresh ? { tasks: options.fresh } : {}),
      };
      give(options, await post<Run>(`/api/projects/${await projectName(options.project)}/runs`, body), started);
    });
  shared(
    run.command('log <number> <task>').description('what a task of a run printed'),
    'tsunagi run log 131 unit --search "not ok"',
  )
    .option('--attempt <n>', 'of this attempt; default: the last')
    .option('--search <text>', 'only the lines that have this text, with their numbers')
    .action(async (text: string, name: string, options: Shared & { attempt?: string; search?: string }) => {
      const project = await projectName(options.project);
      const detail = await get<RunDetail>(
        `/api/projects/${encodeURIComponent(project)}/runs/${numberOf(text, '') ?? 0}`,
      );
      const names = detail.taskList.map((one) => one.name);
      const task = detail.taskList.find((one) => one.name === name);
      if (!task) throw new CodedError('unknown_task', { name, hint: hintFor(name, names) });
      const attempt = options.attempt
        ? task.attempts.find((one) => String(one.number) === options.attempt)
        : task.attempts.at(-1);
      if (!attempt)
        throw new CodedError('not_found', {
          what: options.attempt ? `Attempt ${options.attempt} of ${name}` : `An attempt of ${name}`,
          hint: `\`tsunagi run show ${detail.number}\` shows them.`,
        });
      if (options.search !== undefined) return searchAttempt(attempt.id, options.search, options);
      await printAttempt(attempt.id, options);
    });
  shared(
    run
      .command('again <number> [task]')
      .description('another run of the same commit: what failed runs anew, and the named task too'),
    'tsunagi run again 131 unit',
  ).action(async (text: string, task: string | undefined, options: Shared) =>
    give(
      options,
      await post<Run>(
        `/api/projects/${await projectName(options.project)}/runs/${numberOf(text, '') ?? 0}/again`,
        task ? { task } : {},
      ),
      started,
    ),
  );
  shared(run.command('stop <number>').description('end a run and every process of it'), 'tsunagi run stop 131').action(
    async (text: string, options: Shared) =>
      give(
        options,
        await post<Run>(`/api/projects/${await projectName(options.project)}/runs/${numberOf(text, '') ?? 0}/stop`),
        (one) => say(`run ${one.number} is being stopped`),
      ),
  );
}

interface Start {
  withoutReuse?: boolean;
  fresh?: string[];
  from?: string;
  branch?: string;
}

/** Prints every line as it was printed, but for control characters. */
export async function printAttempt(
  id: string,
  options: Shared,
  of: 'attempts' | 'instances' = 'attempts',
): Promise<void> {
  let rest = '';
  for (let next: string | null = '0'; next !== null; ) {
    const page: PageOf<LogChunk> = await get(`/api/${of}/${id}/log?from=${next}`);
    for (const chunk of page.items) {
      if (options.json) {
        say(JSON.stringify(chunk));
        continue;
      }
      if (chunk.skipped) say(faint(`[${chunk.skipped.lines} lines are not kept]`));
      const lines = (rest + chunk.text).split('\n');
      rest = lines.pop() ?? '';
      for (const line of lines) say(printed(line));
    }
    next = page.next;
  }
  if (rest) say(printed(rest));
}

async function searchAttempt(id: string, text: string, options: Shared): Promise<void> {
  let from: number | null = 0;
  const found: FoundLines['found'] = [];
  while (from !== null) {
    const page: FoundLines = await get(
      `/api/attempts/${id}/log/search?text=${encodeURIComponent(text)}&from=${from}&limit=1000`,
    );
    found.push(...page.found);
    from = page.next;
  }
  give(options, found, () => {
    for (const one of found) say(`${faint(String(one.line + 1).padStart(7))}  ${plain(one.text)}`);
  });
  if (found.length === 0) process.exitCode = 1;
}

/** The whole id of a commit that waits, or that a run was of. */
async function wholeCommit(project: string, text: string): Promise<string> {
  const usage = (detail: string) => new CodedError('usage', { detail, command: 'run allow' });
  if (!/^[0-9a-f]{7,64}$/.test(text)) throw usage(`\`${text}\` is not the id of a commit.`);
  if (text.length >= 40) return text;
  const { items } = await get<PageOf<Run>>(`/api/runs?project=${project}&limit=200`);
  const found = [...new Set(items.map((one) => one.commit.id).filter((id) => id.startsWith(text)))];
  if (found.length > 1) throw usage(`\`${text}\` begins several commits; write more of it.`);
  if (!found[0]) throw new CodedError('ref_unknown', { ref: text, project });
  return found[0];
}

const started = (one: Run): void =>
  say(
    `run ${one.number} of ${short(one.commit.id)} ${plain(one.commit.title)}`,
    faint(`tsunagi follow ${one.number} --project ${one.project}`),
  );

function showRun(run: RunDetail, coverage: RunCoverage | null): void {
  say(
    `${bold(`run ${run.number}`)} ${state(run.state)}  ${short(run.commit.id)} ${plain(run.commit.title)}  ${faint(`${placeOfRun(run)} · ${took(run.createdAt, run.endedAt)}`)}`,
  );
  if (run.issue) say(plain(run.issue.says), faint(plain(run.issue.next)));
  if (run.waits) say(plain(run.waits.says), faint(plain(run.waits.next)));
  if (run.trimmedAt) say(faint('Its logs and outputs are not kept any more.'));
  for (const one of run.definitionIssues)
    say(`  tsunagi.yaml:${one.line}:${one.column}  ${plain(one.says)} ${faint(plain(one.next))}`);
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
          plain(
            task.issue?.says ??
              (task.reusedFrom
                ? `the pass of run ${task.reusedFrom} counts`
                : task.flaky
                  ? 'flaky: it failed before it passed'
                  : ''),
          ),
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
  for (const { task, changed, ...all } of coverage?.tasks ?? []) {
    say(
      `${task} covers ${shareText(all)}${changed?.found ? `, ${shareText(changed)} of what the change touches` : ''}.`,
    );
    for (const file of changed?.files.filter((one) => one.missed).slice(0, 10) ?? [])
      say(`  ${plain(file.path)} ${faint(`not run: ${file.missed.replaceAll(',', ', ')}`)}`);
  }
  if (run.release) say(`It became ${bold(`r${run.release}`)}.`);
}
