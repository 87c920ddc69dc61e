/** The acts of release: deploy, promote, revert, restart, hold, lift; and follow, which waits for an end. */
import type { Command } from 'commander';
import { percent } from '../../core/cutover/percent.js';
import { CodedError } from '../../core/errors/errors.js';
import { parseSize, sizeSource } from '../../core/sizes.js';
import { deploymentMoving } from '../../core/states.js';
import type {
  Deployment,
  Environment,
  EnvironmentDetail,
  Restarted,
  ScaleBody,
  Size,
} from '../../wire/environments/environments.js';
import type { Event } from '../../wire/overview.js';
import type { LogChunk } from '../../wire/logs.js';
import type { Said } from '../../wire/parts.js';
import type { RunDetail } from '../../wire/runs.js';
import { environmentPlace, follow, get, post, projectName } from '../api.js';
import { ago, bold, faint, plain, printed, say, short, state, took } from '../print.js';
import { lookAhead, revertAhead } from './environments/look-ahead.js';
import { checkPromotion, endFreeze } from './environments/rules.js';
import { jointNumber, promoteTogether, takeBack } from './environments/together.js';
import { give, numberOf, type Shared, shared } from './shared.js';

/** Milliseconds between two looks at programs that are being replaced. */
const askMs = 250;
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

const usage = (detail: string, command: string) => new CodedError('usage', { detail, command });

type RevertOptions = Shared & {
  release?: string;
  wait: boolean;
  dryRun?: boolean;
  variables?: string;
  oneWay?: boolean;
  undo?: boolean;
  why?: string;
};

export function actCommands(program: Command): void {
  const wait = (command: Command) => command.option('--no-wait', 'do not wait until it is live or has failed');

  wait(
    shared(
      program
        .command('deploy <what>')
        .description(
          'bring a release live in an environment without rules; or deploy again what a deployment there brought (d17), with its plain variables of then',
        ),
      'tsunagi deploy r57 --to sailings/staging',
    )
      .requiredOption('--to <environment>', 'where')
      .option('--look', 'what it would make and start there, and what that costs; nothing is done'),
  ).action((what: string, options: Shared & { to: string; wait: boolean; look?: boolean }) =>
    options.look ? lookAhead(options.to, what, options) : ask('deploy', options.to, what, options),
  );
  wait(
    shared(
      program
        .command('promote [what...]')
        .description(
          'deploy exactly what the environment before has verified (or r57 of it); with --together: of several projects, all at one moment or none',
        ),
      'tsunagi promote r57 --to sailings/production\n  tsunagi promote sailings berth-planner=r12 --to production --together',
    ).requiredOption('--to <environment>', 'where'),
  )
    .option('--together', 'what is named are projects; all of them go, or none')
    .option('--check', 'how every rule stands, and what would change it; nothing is done')
    .option('--override <reason>', 'of an owner: though rules are not met')
    .action(
      (
        what: string[],
        options: Shared & { to: string; wait: boolean; check?: boolean; override?: string; together?: boolean },
      ) => {
        const [release] = what;
        if (options.together && options.override !== undefined)
          throw usage('With --together no rule is overridden: promote that one alone.', 'promote');
        if (options.together) return promoteTogether(what, options);
        if (what.length > 1) throw usage('Name one release; several projects go with --together.', 'promote');
        return options.check
          ? checkPromotion(options.to, release, options)
          : ask(
              'promote',
              options.to,
              release,
              options,
              options.override === undefined ? {} : { override: options.override },
            );
      },
    );
  wait(
    shared(
      program
        .command('revert <environment>')
        .description(
          'go back to what was live before, and hold the environment; j3: all projects of that joint promotion',
        ),
      'tsunagi revert sailings/production',
    ).option('--release <release>', 'to this release'),
  )
    .option('--dry-run', 'show what it would do, what it can’t undo, and what else can be gone back to; change nothing')
    .option('--variables <when>', 'plain variables of `then` (default) or of `now`')
    .option('--one-way', 'also go back beyond migrations that are marked as one-way')
    .option('--undo', 'undo the last revert: bring back what it has left, and the hold as it was before')
    .option('--why <reason>', 'the reason, kept with the hold')
    .action((environment: string, options: RevertOptions) => {
      const { variables, oneWay, undo, why } = options;
      const joint = jointNumber(environment);
      if (joint !== null) return takeBack(joint, options);
      if (undo && (variables !== undefined || oneWay || options.release !== undefined || options.dryRun))
        throw usage('--undo brings back what the revert has left; it takes --why alone.', 'revert');
      if (options.dryRun) return revertAhead(environment, options.release, options);
      if (variables !== undefined && variables !== 'then' && variables !== 'now')
        throw usage(`--variables is \`then\` or \`now\`, not \`${variables}\`.`, 'revert');
      return ask('revert', environment, options.release, options, {
        ...(variables ? { variables } : {}),
        ...(oneWay ? { oneWay } : {}),
        ...(undo ? { undo } : {}),
        ...(why ? { why } : {}),
      });
    });

  shared(
    program
      .command('hold <environment>')
      .description('it takes nothing new until the hold is lifted; revert still works'),
    'tsunagi hold sailings/staging --why "data import tonight"',
  )
    .option('--why <reason>', 'why')
    .action(async (text: string, options: Shared & { why?: string }) => {
      const place = await environmentPlace(text, options.project);
      give(options, await post<Environment>(`${place.path}/hold`, { why: options.why ?? '' }), (one) =>
        say(`${one.project}/${one.name} is on hold: ${plain(one.held?.why ?? '')}`),
      );
    });
  shared(
    program.command('lift <environment>').description('end a hold, or an owner’s freeze'),
    'tsunagi lift sailings/staging',
  )
    .option('--freeze', 'the freeze')
    .action(async (text: string, options: Shared & { freeze?: boolean }) => {
      if (options.freeze) return endFreeze(text, options);
      const place = await environmentPlace(text, options.project);
      give(options, await post<Environment>(`${place.path}/lift`), (one) =>
        say(`${one.project}/${one.name} is not on hold any more.`),
      );
    });

  shared(
    program
      .command('restart <environment>')
      .description('replace its programs by fresh ones of the same release; no request is lost'),
    'tsunagi restart sailings/production --part api',
  )
    .option('--part <part>', 'this part alone')
    .option('--no-wait', 'do not wait until all are replaced')
    .action(async (environment: string, options: Shared & { part?: string; wait: boolean }) => {
      const place = await environmentPlace(environment, options.project);
      // Those that failed before, of this deployment or an older one, say nothing about this restart.
      const known = new Set((await get<EnvironmentDetail>(place.path)).instanceList.map((one) => one.id));
      const answer = await post<Restarted>(`${place.path}/restart`, options.part ? { part: options.part } : {});
      if (!options.wait)
        return give(options, answer, () => say(`${answer.replaces.length} programs are being replaced.`));
      for (;;) {
        const { instanceList } = await get<EnvironmentDetail>(place.path);
        const left = instanceList.filter(
          (one) =>
            answer.replaces.includes(one.id) &&
            (one.state === 'waiting' || one.state === 'starting' || one.state === 'ready'),
        );
        const served = new Set(
          instanceList.filter((one) => answer.replaces.includes(one.id)).map((one) => one.deployment),
        );
        const failing = instanceList.find(
          (one) =>
            one.state === 'failed' &&
            !known.has(one.id) &&
            served.has(one.deployment) &&
            answer.parts.includes(one.part),
        );
        if (left.length === 0) break;
        if (failing?.issue) {
          give(options, answer, () =>
            say(
              `A fresh ${failing.part} does not start: ${plain(failing.issue?.says ?? '')}`,
              faint('The old ones go on; it is tried again.'),
            ),
          );
          process.exitCode = 1;
          return;
        }
        await pause(askMs);
      }
      give(options, answer, () =>
        say(`${answer.parts.map(plain).join(', ')}: ${answer.replaces.length} programs were replaced by fresh ones.`),
      );
    });

  shared(
    program
      .command('scale <environment>')
      .description('how many instances of a part are wanted, and how large each may be; it counts at once'),
    'tsunagi scale sailings/production --part api --instances 4 --memory 512M --cpu 1',
  )
    .requiredOption('--part <part>', 'which part')
    .option('--instances <number>', 'how many')
    .option('--memory <size>', 'how much memory each may take')
    .option('--cpu <cores>', 'how many cores each may take')
    .option('--reset', 'what the definition says counts again')
    .option('--no-wait', 'do not wait until it is so')
    .action(
      async (
        environment: string,
        options: Shared & {
          part: string;
          instances?: string;
          memory?: string;
          cpu?: string;
          reset?: boolean;
          wait: boolean;
        },
      ) => {
        const place = await environmentPlace(environment, options.project);
        const size = await post<Size>(`${place.path}/scale`, sizeAsked(options));
        const words = [
          `${size.instances} ${size.instances === 1 ? 'instance' : 'instances'}`,
          ...(size.auto
            ? [`between ${size.auto.min} and ${size.auto.max} at ${Math.round(size.auto.cpu * 100)} % of their cores`]
            : []),
          ...(size.memory === null ? [] : [`${sizeSource(size.memory)} of memory each`]),
          ...(size.cpu === null ? [] : [`${size.cpu} cores each`]),
        ].join(', ');
        if (!options.json) say(`${plain(options.part)} of ${place.project}/${place.name}: ${words}`);
        const failing = options.wait ? await untilScaled(place.path, options.part, size.instances) : null;
        give(options, size, () => {
          if (failing) say(plain(failing.says), faint(plain(failing.next)));
        });
        if (failing) process.exitCode = 1;
      },
    );

  shared(
    program
      .command('follow [what]')
      .description('follow a run (131) or deployment (d17) until it ends; default: the newest run'),
    'tsunagi follow 131 --project sailings',
  ).action(async (what: string | undefined, options: Shared) => {
    const project = await projectName(options.project);
    const deployment = what?.startsWith('d') ? numberOf(what, 'd') : null;
    if (deployment) return finish(await followDeployment(project, deployment, !options.json), options);
    const number = what
      ? numberOf(what.replace(/^run\s*/, ''), '')
      : ((await get<{ items: { number: number }[] }>(`/api/runs?project=${encodeURIComponent(project)}&limit=1`))
          .items[0]?.number ?? null);
    // An unknown project says so, in place of one without runs.
    if (!number && !what) await get(`/api/projects/${encodeURIComponent(project)}`);
    if (!number)
      throw usage(what ? `\`${what}\` is not a run (131) or a deployment (d17).` : 'There is no run yet.', 'follow');
    const run = await followRun(project, number, !options.json);
    give(options, run, () => {});
    if (run.state !== 'passed') process.exitCode = 1;
  });
}

function sizeAsked(options: {
  part: string;
  instances?: string;
  memory?: string;
  cpu?: string;
  reset?: boolean;
}): ScaleBody {
  const { part, instances, memory, cpu, reset } = options;
  const bytes = memory === undefined ? undefined : parseSize(memory);
  if (bytes === null) throw usage(`\`${memory}\` is not a size; one looks like 512M.`, 'scale');
  if (instances !== undefined && !/^\d{1,3}$/.test(instances))
    throw usage(`\`${instances}\` is not a number of instances.`, 'scale');
  if (cpu !== undefined && !/^\d{1,2}(\.\d{1,2})?$/.test(cpu))
    throw usage(`\`${cpu}\` is not a number of cores.`, 'scale');
  if (instances === undefined && bytes === undefined && cpu === undefined && !reset)
    throw usage('Say --instances, --memory, --cpu or --reset.', 'scale');
  return {
    part,
    ...(instances === undefined ? {} : { instances: Number(instances) }),
    ...(bytes === undefined ? {} : { memory: bytes }),
    ...(cpu === undefined ? {} : { cpu: Number(cpu) }),
    ...(reset ? { reset: true } : {}),
  };
}

/** Waits until so many of a part are ready and none besides; gives what keeps one of them from it. */
async function untilScaled(path: string, part: string, count: number): Promise<Said | null> {
  // What was asked for a moment ago is begun by now.
  await pause(askMs);
  for (;;) {
    const { instanceList, live } = await get<EnvironmentDetail>(path);
    if (!live) return null;
    const own = instanceList.filter((one) => one.part === part && one.deployment === live.number);
    const up = own.filter((one) => one.state === 'ready' || one.state === 'starting' || one.state === 'waiting');
    if (up.length === count && up.every((one) => one.state === 'ready' && one.wanted)) return null;
    const stuck =
      up.find((one) => one.state === 'waiting' && one.issue) ?? own.find((one) => one.state === 'failed' && one.wanted);
    if (stuck?.issue) return stuck.issue;
    await pause(askMs);
  }
}

async function ask(
  kind: 'deploy' | 'promote' | 'revert',
  where: string,
  release: string | undefined,
  options: Shared & { wait: boolean },
  more: { override?: string; variables?: 'then' | 'now'; oneWay?: boolean; undo?: boolean; why?: string } = {},
): Promise<void> {
  const place = await environmentPlace(where, options.project);
  const again = kind === 'deploy' && release !== undefined && release.startsWith('d') ? numberOf(release, 'd') : null;
  const number = release === undefined || again !== null ? null : numberOf(release, 'r');
  if (release !== undefined && number === null && again === null)
    throw usage(`\`${release}\` is not a release; one looks like r57.`, kind);
  const asked = await post<Deployment>(`${place.path}/deployments`, {
    kind,
    ...(number === null ? {} : { release: number }),
    ...(again === null ? {} : { deployment: again }),
    ...(kind === 'revert' && !more.undo ? await whatToLeave(place.path) : {}),
    ...more,
  });
  if (asked.already && !options.json)
    say(
      `${place.project}/${asked.environment} is already reverted by ${plain(asked.actor)}, with d${asked.number} to r${asked.release}.`,
    );
  if (asked.keeps !== undefined) return endedFor(asked, place.project, options);
  if (!options.json && !asked.already)
    say(
      `d${asked.number}: r${asked.release} to ${asked.project}/${asked.environment}  ${faint(`${short(asked.commit.id)} ${plain(asked.commit.title)}`)}`,
    );
  if (!options.wait) return give(options, asked, () => {});
  finish(await followDeployment(place.project, asked.number, !options.json), options);
}

/** A revert names what it leaves, so that two people who revert at once go back once. */
async function whatToLeave(path: string): Promise<{ leaves?: number }> {
  const { live, moving } = await get<EnvironmentDetail>(path);
  const leaves = moving && moving.kind !== 'revert' ? moving : live;
  return leaves ? { leaves: leaves.number } : {};
}

/** What was on its way ends, and what is live keeps the traffic: that is what was asked for. */
async function endedFor(asked: Deployment, project: string, options: Shared & { wait: boolean }): Promise<void> {
  const ended = options.wait ? await followDeployment(project, asked.number, false) : asked;
  give(options, { ...ended, keeps: asked.keeps }, () =>
    say(
      `d${asked.number} with r${asked.release} ${options.wait ? 'has ended' : 'ends'}. r${asked.keeps} keeps the traffic of ${project}/${asked.environment}, which is on hold.`,
    ),
  );
}

function finish(deployment: Deployment, options: Shared): void {
  const { number, project, state: end } = deployment;
  give(options, deployment, () => {
    if (end === 'failed') say(faint(`  tsunagi deployment log d${number} --project ${project}`));
  });
  if (end === 'failed') process.exitCode = 1;
}

async function followDeployment(project: string, number: number, talk: boolean): Promise<Deployment> {
  const path = `/api/projects/${encodeURIComponent(project)}/deployments/${number}`;
  let last = '';
  let deployment = await get<Deployment>(path);
  const show = async (): Promise<boolean> => {
    deployment = await get<Deployment>(path);
    const line = `${deployment.state} ${deployment.failure?.code ?? ''}`;
    if (talk && line !== last)
      say(
        `  ${state(deployment.state)}${deployment.failure ? `  ${plain(deployment.failure.says)}\n  ${faint(plain(deployment.failure.next))}` : ''}${deployment.state === 'live' ? faint(`  after ${took(deployment.createdAt, deployment.liveAt)}`) : ''}`,
      );
    last = line;
    return !deploymentMoving(deployment.state);
  };
  if (await show()) return deployment;
  const place = `${project}/${deployment.environment}`;
  await follow(`/api/feed?project=${encodeURIComponent(project)}`, async (kind, data: Event) => {
    if (kind !== 'open' && data.subject !== `d${number}` && data.subject !== place) return false;
    const over = await show();
    if (talk && kind !== 'open' && data.type.endsWith('traffic.shared') && data.data.deployment === `d${number}`) {
      const share = Number(data.data.share);
      say(`  ${share === 0 ? 'copies of requests' : `${percent(share)} of the traffic`}`);
    }
    return over;
  });
  return deployment;
}

/** Prints each attempt's lines as they come, and the end. */
/** Failed tests of a task that are named below it. */
const mostNamed = 10;

export async function followRun(project: string, number: number, talk: boolean): Promise<RunDetail> {
  const path = `/api/projects/${encodeURIComponent(project)}/runs/${number}`;
  let run = await get<RunDetail>(path);
  const followed = new Set<string>();
  /** `unit 1`: the first attempt of `unit`. */
  const known = new Set<string>();
  const logs: Promise<void>[] = [];
  let announced = '';
  let waits = '';
  const look = async (): Promise<boolean> => {
    run = await get<RunDetail>(path);
    if (talk && announced === '') say(`${bold(`run ${number}`)}  ${short(run.commit.id)} ${plain(run.commit.title)}`);
    announced = run.state;
    // Why it waits is said once, and again where that is another reason.
    if (talk && run.state === 'waiting' && run.issue && run.issue.says !== waits) {
      waits = run.issue.says;
      say(plain(run.issue.says), faint(plain(run.issue.next)));
    }
    for (const task of run.taskList) {
      for (const attempt of task.attempts) {
        if (attempt.state === 'waiting' || followed.has(attempt.id)) continue;
        followed.add(attempt.id);
        for (const name of [task.name, `${task.name} ${attempt.number}`]) known.add(name);
        if (talk)
          logs.push(printAttempt(task.name, attempt.id, Math.max(...run.taskList.map((one) => one.name.length))));
      }
    }
    return run.state !== 'waiting' && run.state !== 'running';
  };
  /** Most events tell what is known by then: the run is asked for again only where one does not. */
  const news = ({ subject, type, data }: Event): boolean => {
    if (subject !== `run ${number}`) return false;
    if (type === 'attempt.started') return !known.has(`${data.task} ${data.attempt}`);
    // One that it shares with another run begins in the events of that.
    if (type === 'task.ended') return !known.has(String(data.task));
    return !type.startsWith('task.') && !type.startsWith('attempt.');
  };
  if (!(await look()))
    await follow(`/api/feed?project=${encodeURIComponent(project)}`, async (kind, data: Event) =>
      kind === 'open' || news(data) ? look() : false,
    );
  await Promise.all(logs);
  if (!talk) return run;
  for (const task of run.taskList) {
    say(
      `${state(task.state).padEnd(8)} ${task.name}  ${faint(took(task.startedAt, task.endedAt))}${task.issue ? `  ${plain(task.issue.says)}` : ''}`,
    );
    const failed = (task.tests?.cases ?? []).filter((one) => one.state === 'failed');
    for (const one of failed.slice(0, mostNamed))
      say(
        `         ${plain([one.group, one.name].filter(Boolean).join(' › '))}${one.place ? `  ${faint(plain(one.place))}` : ''}`,
      );
    if (failed.length > mostNamed) say(faint(`         and ${failed.length - mostNamed} more`));
  }
  say(
    `${bold(`run ${number}`)} ${state(run.state)} ${faint(`${ago(run.endedAt)}, after ${took(run.createdAt, run.endedAt)}`)}${run.release ? `, and became ${bold(`r${run.release}`)}` : ''}`,
  );
  if (run.issue) say(plain(run.issue.says), faint(plain(run.issue.next)));
  for (const one of run.definitionIssues)
    say(`  tsunagi.yaml:${one.line}:${one.column}  ${plain(one.says)} ${faint(plain(one.next))}`);
  return run;
}

const printAttempt = (name: string, id: string, width: number): Promise<void> =>
  followAttempt(id, (line) => say(`${faint(name.padEnd(width))}  ${printed(line)}`));

/** Follows the log of an attempt to its end, line by line. */
export async function followAttempt(id: string, print: (line: string) => void): Promise<void> {
  let rest = '';
  await follow(`/api/attempts/${id}/log?follow=true`, (kind, data: LogChunk) => {
    if (kind === 'end') return true;
    const lines = (rest + data.text).split('\n');
    rest = lines.pop() ?? '';
    for (const line of lines) print(line);
    return false;
  });
  if (rest) print(rest);
}
