/** job list, show, run, stop, log. */
import type { Command } from 'commander';
import { CodedError } from '../../../core/errors/errors.js';
import { attemptEnded } from '../../../core/states.js';
import type { Job, JobDetail, JobRun } from '../../../wire/environments/jobs.js';
import type { PageOf } from '../../../wire/parts.js';
import { environmentPlace, get, post } from '../../api.js';
import { ago, bold, plain, printed, say, state, table, took } from '../../print.js';
import { followAttempt } from '../acts.js';
import { printAttempt } from '../runs.js';
import { give, numberOf, type Shared, shared } from '../shared.js';

/** Milliseconds between two questions for one that runs. */
const askMs = 300;

async function jobAt(environment: string, name: string, options: Shared) {
  const place = await environmentPlace(environment, options.project);
  return { path: `${place.path}/jobs/${encodeURIComponent(name)}`, shown: `${place.project}/${place.name}` };
}

export function jobCommands(program: Command): void {
  const job = program.command('job').description('programs that run by the clock and end');

  shared(
    job.command('list <environment>').description('its jobs, how each went last, and when it runs next'),
    'tsunagi job list sailings/production',
  ).action(async (environment: string, options: Shared) => {
    const place = await environmentPlace(environment, options.project);
    give(options, await get<PageOf<Job>>(`${place.path}/jobs`), ({ items }) => {
      if (items.length === 0) return say('It has none; `kind: job` of a part declares one.');
      say(
        table(
          ['JOB', 'RUNS', 'NEXT', 'LAST', ''],
          items.map((one) => [
            plain(one.name),
            plain(one.schedule),
            exactly(one.nextAt),
            one.last ? `${state(one.last.state)} ${ago(one.last.endedAt ?? one.last.createdAt)}` : 'never',
            one.missed ? `missed ${one.missed}` : '',
          ]),
        ),
      );
    });
  });

  shared(
    job.command('show <environment> <name>').description('one job, and how it went'),
    'tsunagi job show sailings/production digest',
  ).action(async (environment: string, name: string, options: Shared) => {
    const { path, shown } = await jobAt(environment, name, options);
    give(options, await get<JobDetail>(path), (one) => {
      say(`${bold(plain(one.name))} of ${plain(shown)} runs ${plain(one.schedule)}; next ${exactly(one.nextAt)}`);
      if (one.missed) say(`It was missed ${one.missed} times since it last ran.`);
      if (one.runs.length === 0) return say('It has not run yet.');
      say(
        table(
          ['NUMBER', 'STATE', 'BEGAN', 'TOOK', 'RELEASE', ''],
          one.runs.map((run) => [
            String(run.number),
            state(run.state),
            ago(run.startedAt ?? run.createdAt),
            took(run.startedAt, run.endedAt),
            `r${run.release}`,
            run.issue ? plain(run.issue.says) : '',
          ]),
        ),
      );
    });
  });

  shared(
    job
      .command('run <environment> <name>')
      .description('run it now, and follow its log until it ends; the exit status says how'),
    'tsunagi job run sailings/production digest',
  ).action(async (environment: string, name: string, options: Shared) => {
    const { path } = await jobAt(environment, name, options);
    const begun = await post<JobDetail>(`${path}/run`);
    const [first] = begun.runs;
    if (!first) return;
    await followAttempt(first.attempt, (line) => (options.json ? undefined : say(printed(line))));
    const one = await ended(path, first.number);
    give(options, one, () => {
      process.stderr.write(`${state(one.state)}${one.issue ? `: ${plain(one.issue.says)}` : ''}\n`);
    });
    if (one.state !== 'passed') process.exitCode = 1;
  });

  shared(
    job.command('stop <environment> <name>').description('stop it where it runs'),
    'tsunagi job stop sailings/production digest',
  ).action(async (environment: string, name: string, options: Shared) => {
    const { path, shown } = await jobAt(environment, name, options);
    give(options, await post<JobDetail>(`${path}/stop`), () =>
      say(`${plain(name)} of ${plain(shown)} is told to stop.`),
    );
  });

  shared(
    job.command('log <environment> <name>').description('what it printed last'),
    'tsunagi job log sailings/production digest --number 12',
  )
    .option('--number <number>', 'another time that it ran')
    .action(async (environment: string, name: string, options: Shared & { number?: string }) => {
      const { path } = await jobAt(environment, name, options);
      const { runs } = await get<JobDetail>(path);
      const wanted = options.number === undefined ? null : numberOf(options.number, '');
      const one = options.number === undefined ? runs[0] : runs.find((run) => run.number === wanted);
      if (!one)
        throw new CodedError('not_found', {
          what: options.number === undefined ? 'A log of it' : `Its number ${plain(options.number)}`,
          hint: '`tsunagi job show` lists when it ran.',
        });
      await printAttempt(one.attempt, options);
    });
}

/** Its log has come whole; how it ended is known a moment later. */
async function ended(path: string, number: number): Promise<JobRun> {
  for (;;) {
    const one = (await get<JobDetail>(path)).runs.find((run) => run.number === number);
    if (one && attemptEnded(one.state)) return one;
    await new Promise((resolve) => setTimeout(resolve, askMs));
  }
}

/** `2026-11-27 05:00 UTC` */
const exactly = (iso: string): string => `${iso.slice(0, 16).replace('T', ' ')} UTC`;
