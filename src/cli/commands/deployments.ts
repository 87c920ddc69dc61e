/** Commands of single deployments: show, log, stop. */
import type { Command } from 'commander';
import { CodedError } from '../../core/errors/errors.js';
import type { Deployment, DeploymentDetail } from '../../wire/environments/environments.js';
import { get, post, projectName } from '../api.js';
import { ago, bold, faint, plain, say, short, state, table, took } from '../print.js';
import { printAttempt } from './runs.js';
import { give, numberOf, type Shared, shared } from './shared.js';

export function deploymentCommands(program: Command): void {
  const deployment = program
    .command('deployment')
    .description('one deployment: its steps, what it printed, and how to stop it');
  shared(
    deployment.command('show <deployment>').description('show its steps with their times, its work and its instances'),
    'tsunagi deployment show d17 --project sailings',
  ).action(async (text: string, options: Shared) => {
    const path = await pathOf(text, options, 'deployment show');
    give(options, await get<DeploymentDetail>(path), showDeployment);
  });
  shared(
    deployment
      .command('log <deployment> [what]')
      .description(
        'print what prepare, seed, verify or an instance (api/1) printed; default: the last work that failed',
      ),
    'tsunagi deployment log d17 prepare --project sailings',
  ).action(async (text: string, what: string | undefined, options: Shared) => {
    const one = await get<DeploymentDetail>(await pathOf(text, options, 'deployment log'));
    const chosen = choose(one, what);
    if (!chosen)
      throw new CodedError('not_found', {
        what: what ? `\`${plain(what)}\` of d${one.number}` : `Work of d${one.number}`,
        hint: `It has ${namesOf(one).join(', ') || 'printed nothing'}.`,
      });
    if (!options.json) say(faint(`${chosen.name} of d${one.number}`));
    await printAttempt(chosen.id, options, chosen.of);
  });
  shared(
    deployment
      .command('stop <deployment>')
      .description('stop one on its way: its work ends, and what was live before goes on'),
    'tsunagi deployment stop d17 --project sailings',
  ).action(async (text: string, options: Shared) => {
    const path = await pathOf(text, options, 'deployment stop');
    give(options, await post<Deployment>(`${path}/stop`), (one) =>
      say(
        `d${one.number} is being stopped; ${one.environment} stays as it was`,
        faint(`tsunagi follow d${one.number} --project ${one.project}`),
      ),
    );
  });
}

async function pathOf(text: string, options: Shared, command: string): Promise<string> {
  const number = numberOf(text, 'd');
  if (!number) throw new CodedError('usage', { detail: `\`${plain(text)}\` is not a deployment (d17).`, command });
  return `/api/projects/${encodeURIComponent(await projectName(options.project))}/deployments/${number}`;
}

interface Printed {
  name: string;
  id: string;
  of: 'attempts' | 'instances';
  failed: boolean;
}

/** Everything of a deployment that has a log, in the order in which it began. */
const logsOf = (one: DeploymentDetail): Printed[] => [
  ...one.attempts.map((attempt) => ({
    name: attempt.part ? `${attempt.kind} ${attempt.part}` : attempt.kind,
    id: attempt.id,
    of: 'attempts' as const,
    failed: attempt.state === 'failed' || attempt.state === 'lost',
  })),
  ...one.instances.map((instance) => ({
    name: `${instance.part}/${instance.position}`,
    id: instance.id,
    of: 'instances' as const,
    failed: instance.issue !== null,
  })),
];

const namesOf = (one: DeploymentDetail): string[] => [...new Set(logsOf(one).map(({ name }) => name))];

/** The newest of that name; without a name the newest that failed, else the newest. */
function choose(one: DeploymentDetail, what: string | undefined): Printed | null {
  const all = logsOf(one);
  if (what === undefined) return all.findLast(({ failed }) => failed) ?? all.at(-1) ?? null;
  return all.findLast(({ name }) => name === what || name.split(' ')[0] === what) ?? null;
}

function showDeployment(one: DeploymentDetail): void {
  const { project, environment, number, release, commit } = one;
  say(
    `${bold(`d${number}`)} ${state(one.state)}  r${release} ${short(commit.id)} ${plain(commit.title)}  ${faint(`${project}/${environment} · ${one.kind} by ${plain(one.actor)} · ${ago(one.createdAt)}`)}`,
  );
  if (one.failure) say(plain(one.failure.says), faint(plain(one.failure.next)));
  say('');
  say(
    table(
      ['STEP', 'AT', 'TOOK', ''],
      one.steps.map((step, at) => [
        step.what,
        step.at.slice(11, 19),
        one.steps[at + 1] ? took(step.at, one.steps[at + 1]?.at ?? null) : '',
        step.issue && step.issue.says !== one.failure?.says ? plain(step.issue.says) : '',
      ]),
    ),
  );
  if (one.attempts.length) {
    say('');
    say(
      table(
        ['WORK', 'STATE', 'TOOK', 'LINES', ''],
        one.attempts.map((attempt) => [
          attempt.part ? `${attempt.kind} ${attempt.part}` : attempt.kind,
          state(attempt.state),
          attempt.startedAt ? took(attempt.startedAt, attempt.endedAt) : '',
          String(attempt.logLines),
          attempt.issue ? plain(attempt.issue.says) : '',
        ]),
      ),
    );
  }
  if (one.instances.length) {
    say('');
    say(
      table(
        ['INSTANCE', 'STATE', 'READY AFTER', 'AGENT', ''],
        one.instances.map((instance) => [
          `${instance.part}/${instance.position}`,
          state(instance.state),
          instance.readyAt ? took(instance.createdAt, instance.readyAt) : '',
          instance.agent ?? '',
          instance.issue ? plain(instance.issue.says) : '',
        ]),
      ),
    );
  }
  say('');
  say(
    faint(
      `tsunagi deployment log d${number} ${logsOf(one).at(0)?.name.split(' ')[0] ?? 'prepare'} --project ${project}`,
    ),
  );
}
