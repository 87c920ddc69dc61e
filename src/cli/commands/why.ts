/** `plan`, `why`, `run again`: what would run, why things are as they are, and another try. */
import type { Command } from 'commander';
import { durationText } from '../../core/durations.js';
import { CodedError } from '../../core/errors/errors.js';
import type { PlanView, WhyRunView, WhyTaskView } from '../../wire/why.js';
import { get, projectName } from '../api.js';
import { bold, faint, plain, say, short, state, table } from '../print.js';
import { whySince } from './since.js';
import { give, numberOf, type Shared, shared } from './shared.js';

export function whyCommands(program: Command): void {
  shared(
    program
      .command('plan [ref]')
      .description('what a commit would run and reuse, why, and the expected time; changes nothing'),
    'tsunagi plan tide-banner',
  ).action(async (ref: string | undefined, options: Shared) => {
    const project = await projectName(options.project);
    const query = ref ? `?ref=${encodeURIComponent(ref)}` : '';
    give(options, await get<PlanView>(`/api/projects/${encodeURIComponent(project)}/plan${query}`), showPlan);
  });
  shared(
    program
      .command('why <what> [name]')
      .description('why a run (`why run 12`) or a task (`why task unit`) is as it is'),
    'tsunagi why task unit --run 12',
  )
    .option('--run <n>', 'the run of the task; default: the newest')
    .option(
      '--since <release>',
      'which commit broke the task since this release: halves the commits between, and runs those that nothing is known of',
    )
    .option('--ref <ref>', 'with --since: where it is broken; default: the main branch')
    .action(async (what: string, name: string | undefined, options: Shared & Asked) => {
      const project = await projectName(options.project);
      const base = `/api/projects/${encodeURIComponent(project)}/runs`;
      if (what === 'run' || /^\d+$/.test(what)) {
        const text = what === 'run' ? name : what;
        const number = text ? numberOf(text, '') : await newest(project);
        if (!number) throw usage(`\`${text}\` is not a run; write a number.`);
        give(options, await get<WhyRunView>(`${base}/${number}/why`), showWhyRun);
      } else if (what === 'task' && name && options.since !== undefined) {
        await whySince(project, name, options as Asked & { since: string });
      } else if (what === 'task' && name) {
        const number = options.run ? numberOf(options.run, '') : await newest(project);
        if (!number) throw usage(`\`${options.run}\` is not a run; write a number.`);
        give(options, await get<WhyTaskView>(`${base}/${number}/tasks/${encodeURIComponent(name)}/why`), showWhyTask);
      } else throw usage('`why` takes `run NUMBER` or `task NAME`.');
    });
}

interface Asked {
  run?: string;
  since?: string;
  ref?: string;
}

const usage = (detail: string) => new CodedError('usage', { detail, command: 'why' });

async function newest(project: string): Promise<number> {
  const { items } = await get<{ items: { number: number }[] }>(
    `/api/runs?project=${encodeURIComponent(project)}&limit=1`,
  );
  if (!items[0]) throw usage('There is no run yet.');
  return items[0].number;
}

const time = (ms: number | null): string => (ms === null ? faint('not known') : ms === 0 ? '' : durationText(ms));

function showPlan(plan: PlanView): void {
  const reused = plan.tasks.filter((one) => one.will === 'reuse').length;
  say(
    `${bold(short(plan.commit.id))} ${plain(plan.commit.title)}${plan.branch ? faint(` on ${plain(plan.branch)}`) : ''}`,
  );
  if (plan.tasks.length === 0) return void say('It has no tasks.');
  say(
    table(
      ['TASK', 'WILL', 'TAKES', 'WHY'],
      plan.tasks.map((one) => [
        one.name,
        one.will === 'reuse' ? state('reused') : 'run',
        time(one.expectedMs),
        plain(one.why?.says ?? ''),
      ]),
    ),
    reused === plan.tasks.length
      ? 'Nothing to run: all of it is reused.'
      : `${plan.tasks.length - reused} to run, ${reused} reused. Expected: ${plan.expectedMs === null ? 'not known yet' : durationText(plan.expectedMs)}${plan.path.length > 1 && plan.expectedMs ? `, by way of ${plan.path.join(' → ')}` : ''}.`,
  );
}

function showWhyTask(why: WhyTaskView): void {
  say(
    `${bold(why.task)} in run ${why.run}: ${state(why.state)}${why.flaky ? ' (flaky: it failed before it passed)' : ''}`,
  );
  if (why.issue) say(plain(why.issue.says), plain(why.issue.next));
  if (why.reusedFrom) say(`The pass of run ${why.reusedFrom} counts: it had the same inputs.`);
  if (why.fingerprint) say(`Fingerprint ${faint(why.fingerprint.slice(0, 16))}`);
  if (!why.comparedWith) return void say('There is no earlier run to compare it with.');
  const [first, ...more] = why.differences;
  if (!first) return void say(`Nothing differs from run ${why.comparedWith.run}.`);
  say(
    `Since run ${why.comparedWith.run} (${state(why.comparedWith.state)}) this differs first: ${bold(plain(first.says))}`,
  );
  if (first.files && first.files.count > 1) say(...first.files.paths.map((path) => `  ${plain(path)}`));
  if (first.before !== null || first.now !== null)
    if (!first.files)
      say(`  before: ${plain(first.before ?? 'nothing')}`, `  now:    ${plain(first.now ?? 'nothing')}`);
  if (more.length) say(`And then: ${more.map((one) => plain(one.says)).join(', ')}.`);
}

function showWhyRun(why: WhyRunView): void {
  say(`run ${why.run} ${state(why.state)}`);
  if (why.issue) say(plain(why.issue.says), plain(why.issue.next));
  for (const one of why.failed) {
    say('', `${bold(one.task)} ${state('failed')}: ${plain(one.issue?.says ?? '')}`);
    if (one.issue?.next) say(`  ${plain(one.issue.next)}`);
    for (const test of one.tests.slice(0, 10))
      say(
        `  ${state('failed')} ${plain(test.group ? `${test.group} › ` : '')}${plain(test.name)} ${faint(`(${standing(test)})`)}`,
        `    ${plain(test.message.split('\n')[0] ?? '')}${test.place ? faint(`  ${plain(test.place)}`) : ''}`,
      );
    if (one.tests.length > 10) say(`  and ${one.tests.length - 10} more`);
  }
  if (why.skipped.length) say('', `Skipped, since a need failed: ${why.skipped.join(', ')}`);
  if (!why.since) return;
  const { since } = why;
  say('', `Since run ${since.run} passed:`);
  for (const commit of since.commits.slice(0, 10))
    say(`  ${short(commit.id)} ${plain(commit.title)} ${faint(plain(commit.author))}`);
  if (since.files.count)
    say(
      `  ${since.files.count} ${since.files.count === 1 ? 'file' : 'files'}: ${since.files.paths.slice(0, 8).map(plain).join(', ')}${since.files.count > 8 ? ', …' : ''}`,
    );
  for (const tool of since.tools) say(`  ${tool.name ?? tool.input}: ${tool.before ?? 'none'} → ${tool.now ?? 'none'}`);
  if (since.variables.length) say(`  variables: ${since.variables.join(', ')}`);
  if (!since.commits.length && !since.files.count && !since.tools.length && !since.variables.length)
    say('  nothing that is recorded: the same commit, tools and variables');
}

const standing = (test: { standing: string; failedBefore: number; seenBefore: number }): string =>
  test.standing === 'new' ? 'new' : `${test.standing}: failed in ${test.failedBefore} of the last ${test.seenBefore}`;
