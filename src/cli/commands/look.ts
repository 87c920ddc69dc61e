/** Commands that show: board, agent, environment, events, logs. */
import type { Command } from 'commander';
import type { AgentView, Board, Event, EventCheck } from '../../wire/overview.js';
import type { Copies, Environment, EnvironmentDetail } from '../../wire/environments/environments.js';
import { ownActors } from '../../core/activity.js';
import { CodedError } from '../../core/errors/errors.js';
import { parseDuration } from '../../core/durations.js';
import type { EnvironmentLines, LogChunk } from '../../wire/logs.js';
import type { PageOf } from '../../wire/parts.js';
import { environmentPlace, follow, get, post, projectName } from '../api.js';
import { ago, bold, faint, plain, printed, say, short, state, table } from '../print.js';
import { projectCommands } from './projects.js';
import { deploymentCommands } from './deployments.js';
import { releaseCommands } from './releases.js';
import { runCommands } from './runs.js';
import { accessCommands } from './access.js';
import { pictureCommands } from './environments/pictures.js';
import { give, type Shared, shared } from './shared.js';

export function lookCommands(program: Command): void {
  shared(program.command('board').description('what is live where, and what waits'), 'tsunagi board', {
    project: false,
  }).action(async (options: Shared) => give(options, await get<Board>('/api/board'), showBoard));

  projectCommands(program);

  accessCommands(program);
  runCommands(program);
  releaseCommands(program);
  deploymentCommands(program);

  shared(
    program
      .command('agent')
      .description('the machines that do the work')
      .command('list')
      .description('agents with what they can do'),
    'tsunagi agent list',
    { project: false },
  ).action(async (options: Shared) =>
    give(options, await get<PageOf<AgentView>>('/api/agents'), ({ items }) =>
      say(
        table(
          ['AGENT', 'STATE', 'SLOTS', 'TAKES', 'NETWORK', 'LIMITS', 'TOOLS'],
          items.map((one) => [
            one.name,
            one.alive ? state('good') : state('down'),
            String(one.slots),
            one.takes.join(' '),
            String(one.sandbox.network),
            String(one.sandbox.limits),
            Object.entries(one.tools)
              .map((pair) => pair.join(' '))
              .join(', '),
          ]),
        ),
      ),
    ),
  );

  const environment = program.command('environment').description('places where releases are live');
  shared(
    environment.command('list').description('all environments of a project'),
    'tsunagi environment list --project sailings',
  ).action(async (options: Shared) =>
    give(
      options,
      await get<PageOf<Environment>>(
        `/api/projects/${encodeURIComponent(await projectName(options.project))}/environments`,
      ),
      ({ items }) => say(table(['ENVIRONMENT', 'STATE', 'LIVE', 'WHAT'], items.map(environmentRow))),
    ),
  );
  shared(
    environment.command('show <environment>').description('parts, instances, history'),
    'tsunagi environment show sailings/production',
  ).action(async (text: string, options: Shared) =>
    give(options, await get<EnvironmentDetail>((await environmentPlace(text, options.project)).path), showEnvironment),
  );

  shared(
    environment
      .command('copies <environment>')
      .description('whether reviews may begin with copies of its data, and what makes those fit for others'),
    'tsunagi environment copies sailings/staging --permit',
  )
    .option('--permit', 'with the `scrub` that is declared now; another one has to be permitted anew')
    .option('--forbid', 'no more; what reviews have by then stays')
    .action(async (text: string, options: Shared & { permit?: boolean; forbid?: boolean }) => {
      if (options.permit && options.forbid)
        throw new CodedError('usage', { detail: 'Say `--permit` or `--forbid`.', command: 'environment copies' });
      const { path, project, name } = await environmentPlace(text, options.project);
      const asked = options.permit || options.forbid;
      const copies = asked
        ? await post<Copies>(`${path}/copies`, { permit: options.permit === true })
        : (await get<EnvironmentDetail>(path)).copies;
      give(options, copies, (one) => {
        if (!one) return say(`${project}/${name} is a review: it is not copied.`);
        say(one.permitted ? `Reviews may begin with copies of ${project}/${name}.` : plain(one.why?.says ?? ''));
        if (!one.permitted && one.why) say(faint(plain(one.why.next)));
        if (one.scrub) say(`scrub, with the files of ${plain(one.scrub.part)}: ${plain(one.scrub.run)}`);
      });
    });

  pictureCommands(environment);

  shared(
    program.command('events').description('what happened, who did it, when'),
    'tsunagi events --project sailings --follow',
  )
    .option('--type <type>', 'only events of this type, such as run.ended')
    .option('--subject <subject>', 'only events of this thing, such as "run 131"')
    .option('--actor <name>', 'only what this one did')
    .option('--people', 'only what people did, not what followed by itself')
    .option('--limit <n>', 'how many', '30')
    .option('-f, --follow', 'go on with new ones')
    .option('--check', 'whether all of them are as they were sealed')
    .action(
      async (
        options: Shared & {
          type?: string;
          subject?: string;
          actor?: string;
          people?: boolean;
          limit: string;
          follow?: boolean;
          check?: boolean;
        },
      ) => {
        if (options.check) return checkEvents(options);
        const query = new URLSearchParams({ limit: options.limit });
        for (const key of ['project', 'type', 'subject', 'actor'] as const)
          if (options[key]) query.set(key, options[key]);
        if (options.people) query.set('people', 'true');
        // Where to go on from is known before the list is read: what happens between the two is shown.
        const head = options.follow
          ? ((await get<PageOf<Event>>('/api/events?limit=1')).items[0]?.sequence ?? '0')
          : null;
        const page = await get<PageOf<Event>>(`/api/events?${query}`);
        const after = page.items[0]?.sequence ?? head;
        const show = (one: Event) => (options.json ? say(JSON.stringify(one)) : say(eventLine(one)));
        if (options.json && !options.follow) return give(options, page, () => {});
        for (const one of [...page.items].reverse()) show(one);
        if (!options.follow) return;
        const fits = (one: Event) =>
          (!options.type || one.type === `dev.tsunagi.${options.type}`) &&
          (!options.subject || one.subject === options.subject) &&
          (!options.actor || one.data.actor === options.actor) &&
          (!options.people || !ownActors.includes(String(one.data.actor)));
        await follow(
          `/api/feed${options.project ? `?project=${encodeURIComponent(options.project)}` : ''}`,
          (kind, data: Event) => {
            if (kind === 'event' && fits(data)) show(data);
            return false;
          },
          after,
        );
      },
    );

  shared(
    program
      .command('logs <environment>')
      .description('what the programs of an environment print, live, or searched by time and text'),
    'tsunagi logs sailings/production --part api --since 2h --find "timetable cannot"',
  )
    .option('--part <part>', 'only this part')
    .option('-f, --follow', 'go on with new lines')
    .option('--since <duration>', 'how far back, of programs that have ended too: 10m, 2h')
    .option('--find <text>', 'only lines with this text, whatever the case')
    .action(async (text: string, options: LogOptions) => {
      const place = await environmentPlace(text, options.project);
      if (!options.follow && (options.since !== undefined || options.find !== undefined))
        return searched(place.path, options);
      const detail = await get<EnvironmentDetail>(place.path);
      const chosen = detail.instanceList.filter(
        (one) => (!options.part || one.part === options.part) && (one.state === 'ready' || one.state === 'starting'),
      );
      const shown = chosen.length ? chosen : detail.instanceList.slice(0, 1);
      await Promise.all(
        shown.map((one) =>
          printLog(
            `${one.part} ${one.position}`,
            `/api/instances/${one.id}/log?tail=20000`,
            Boolean(options.follow),
            Boolean(options.json),
            shown.length > 1,
            options.find ?? '',
          ),
        ),
      );
    });
}

type LogOptions = Shared & { part?: string; follow?: boolean; since?: string; find?: string };

/** Lines of all programs since a time, in the order in which they came in. */
async function searched(path: string, options: LogOptions): Promise<void> {
  const span = parseDuration(options.since ?? '10m');
  if (span === null)
    throw new CodedError('usage', {
      detail: `\`${options.since}\` is not a duration; one looks like 10m.`,
      command: 'logs',
    });
  const query = new URLSearchParams({
    since: new Date(Date.now() - span).toISOString(),
    limit: '2000',
    ...(options.part ? { part: options.part } : {}),
    ...(options.find ? { find: options.find } : {}),
  });
  give(options, await get<EnvironmentLines>(`${path}/logs?${query}`), ({ lines, more }) => {
    const width = Math.max(0, ...lines.map((one) => one.instance.length));
    for (const one of lines)
      say(
        `${faint(`${new Date(one.at).toLocaleTimeString('en-GB')} ${plain(one.instance).padEnd(width)}`)}  ${printed(one.text)}`,
      );
    if (lines.length === 0) say('No such line.');
    else if (more)
      process.stderr.write(`${faint('There are more: look at a shorter time, or for something rarer.')}\n`);
  });
}

async function printLog(
  name: string,
  path: string,
  live: boolean,
  asJson: boolean,
  named: boolean,
  wanted: string,
): Promise<void> {
  let rest = '';
  const print = (chunk: LogChunk) => {
    if (asJson) return say(JSON.stringify({ instance: name, ...chunk }));
    const lines = (rest + chunk.text).split('\n');
    rest = lines.pop() ?? '';
    const fits = lines.filter((line) => line.toLowerCase().includes(wanted.toLowerCase()));
    for (const line of fits) say(`${named ? `${faint(name)}  ` : ''}${printed(line)}`);
  };
  if (live)
    await follow(`${path}&follow=true`, (kind, data: LogChunk) => {
      if (kind === 'chunk') print(data);
      return kind === 'end';
    });
  else for (const chunk of (await get<PageOf<LogChunk>>(path)).items) print(chunk);
  if (rest) say(printed(rest));
}

function showBoard(board: Board): void {
  if (board.projects.length === 0) say('There is no project yet.', faint('tsunagi project add NAME'));
  for (const project of board.projects) {
    say(bold(project.name));
    const { run } = project;
    const rows: string[][] = [];
    if (run)
      rows.push([
        project.mainBranch,
        state(run.state),
        `run ${run.number}`,
        `${short(run.commit.id)} ${plain(run.commit.title)}`,
      ]);
    for (const environment of [...project.environments, ...project.reviews]) rows.push(environmentRow(environment));
    say(table(['WHERE', 'STATE', 'WHAT', 'DETAILS'], rows), '');
  }
  say(
    faint(`agents ${board.agents.alive} of ${board.agents.total} · edges ${board.edges.alive} of ${board.edges.total}`),
  );
}

const notInMain = ({ commits, title }: NonNullable<Environment['beside']>): string =>
  `not in main: ${plain(title)}${commits > 1 ? ` and ${commits - 1} more` : ''}`;

function environmentRow(one: Environment): string[] {
  const notes: string[] = [];
  if (one.moving) notes.push(`r${one.moving.release} ${one.moving.state}`);
  if (one.failed?.failure) notes.push(`r${one.failed.release} failed: ${plain(one.failed.failure.says)}`);
  if (one.held) notes.push(`on hold: ${plain(one.held.why)}`);
  if (one.waits)
    notes.push(
      one.waits.allowed
        ? `${one.waits.pushes} ${one.waits.pushes === 1 ? 'push waits' : 'pushes wait'}: tsunagi promote r${one.waits.release} --to ${one.project}/${one.name}`
        : one.waits.whom
          ? `r${one.waits.release} needs ${one.waits.whom}`
          : one.waits.until
            ? `r${one.waits.release} waits until ${one.waits.until.slice(0, 16).replace('T', ' ')} UTC`
            : `r${one.waits.release} waits`,
    );
  if (one.beside) notes.push(notInMain(one.beside));
  const live = one.live ? `r${one.live.release}${one.verified ? ' verified' : ''}` : '';
  if (one.live) notes.unshift(`live ${ago(one.live.liveAt)}`, one.url);
  const running = one.state === 'live' || one.state === 'empty';
  return [one.name, state(running && (one.live || one.serving) ? one.health : one.state), live, notes.join(' · ')];
}

function showEnvironment(one: EnvironmentDetail): void {
  const row = environmentRow({ ...one, beside: null });
  say(`${bold(`${one.project}/${one.name}`)}  ${row[1]}  ${row[2]}`, faint(row[3] ?? ''));
  if (one.issue) say(`${plain(one.issue.says)} ${faint(plain(one.issue.next))}`);
  if (one.live && one.changes.length)
    say(
      `${one.changes.length} ${one.changes.length === 1 ? 'change waits' : 'changes wait'}: ${one.changes.join(', ')}  ${faint(`tsunagi deploy r${one.live.release} --to ${one.project}/${one.name}`)}`,
    );
  if (one.besideMain.length) {
    say(`Live and not in main: ${one.besideMain.length} ${one.besideMain.length === 1 ? 'commit' : 'commits'}`);
    for (const commit of one.besideMain.slice(0, 5)) say(`  ${short(commit.id)} ${plain(commit.title)}`);
  }
  if (one.delays) say(one.delays);
  say(
    '',
    table(
      ['PART', 'KIND', 'AT', 'DIGEST'],
      one.parts.map((part) => [part.name, part.kind, part.at ?? '', part.digest.slice(0, 19)]),
    ),
  );
  if (one.instanceList.length)
    say(
      '',
      table(
        ['INSTANCE', 'STATE', 'DEPLOYMENT', 'AGENT', 'PORT', 'SINCE', 'WHY'],
        one.instanceList.map((item) => [
          `${item.part} ${item.position}`,
          state(item.state),
          `d${item.deployment}`,
          item.agent ?? '',
          String(item.port ?? ''),
          ago(item.readyAt ?? item.createdAt),
          plain(item.issue?.says ?? ''),
        ]),
      ),
    );
  say(
    '',
    table(
      ['DEPLOYMENT', 'RELEASE', 'STATE', 'HOW', 'BY', 'WHEN', 'WHY'],
      one.history.map((item) => [
        `d${item.number}`,
        `r${item.release}`,
        state(item.state),
        item.kind,
        plain(item.actor),
        ago(item.createdAt),
        plain(item.failure?.says ?? ''),
      ]),
    ),
  );
}

async function checkEvents(options: Shared): Promise<void> {
  const check = await get<EventCheck>('/api/events/check');
  give(options, check, ({ seals, upTo, newest, wrong }) => {
    if (wrong)
      say(
        `${bold('changed')}: events ${wrong.first} to ${wrong.last} are not as they were sealed; ${upTo} before them are.`,
      );
    else
      say(
        `${upTo} events are as they were sealed (${seals} seals). ${Number(newest) - Number(upTo)} newer ones are sealed within a minute.`,
      );
  });
  if (check.wrong) process.exitCode = 1;
}

function eventLine(one: Event): string {
  const { actor, ...data } = one.data as { actor?: string; issue?: { says?: string } };
  const facts = Object.entries(data)
    .filter(([, value]) => value !== null && typeof value !== 'object')
    .map(([key, value]) => `${key} ${String(value)}`);
  return `${faint(one.sequence.padStart(5))}  ${faint(one.time.slice(11, 19))}  ${one.type.replace('dev.tsunagi.', '').padEnd(22)} ${bold(plain(one.subject))}  ${faint(plain(`${facts.join(' · ')}${actor && actor !== 'engine' && actor !== 'agent' ? ` · ${actor}` : ''}`))}`;
}
