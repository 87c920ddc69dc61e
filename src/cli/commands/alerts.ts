/** alert list, show, add, test, remove, mine. */
import type { Command } from 'commander';
import { alertTopics, ownTopics } from '../../core/states.js';
import type {
  AddedAlert,
  AlertBody,
  AlertDetail,
  AlertPage,
  AlertTest,
  OwnAlert,
  OwnAlertBody,
} from '../../wire/alerts.js';
import { call, get, post } from '../api.js';
import { ago, bold, faint, plain, say, state, table } from '../print.js';
import { aboutBody, aboutOf, give, type Shared, shared } from './shared.js';

interface TargetOptions extends Shared {
  mail?: string;
  webhook?: string;
  on?: string;
}

const own = { project: false };
const words = (text: string | undefined): string[] | undefined =>
  text
    ?.split(',')
    .map((one) => one.trim())
    .filter(Boolean);
const target = ({ mail, webhook }: TargetOptions) => ({ ...(mail ? { mail } : {}), ...(webhook ? { webhook } : {}) });

export function alertCommands(program: Command): void {
  const alert = program.command('alert').description('who is told when something is wrong');

  shared(alert.command('list').description('what is wrong now, and the alerts'), 'tsunagi alert list', own).action(
    async (options: Shared) => {
      give(options, await get<AlertPage>('/api/alerts'), ({ items, wrong }) => {
        say(wrong.length ? bold('Wrong now') : 'Nothing is wrong.');
        for (const one of wrong)
          say(`  ${plain(one.place)}  ${one.topic}  ${plain(one.says)}  ${faint(ago(one.since))}`);
        say('');
        if (items.length === 0) return say('Nobody is told; `tsunagi alert add` adds an alert.');
        say(
          table(
            ['ALERT', 'GOES TO', 'ABOUT', 'TOPICS', ''],
            items.map((one) => [
              plain(one.name ?? ''),
              plain(one.target),
              plain(aboutOf(one)),
              one.topics.length === alertTopics.length ? 'all' : one.topics.join(', '),
              one.issue ? plain(one.issue.says) : '',
            ]),
          ),
        );
      });
    },
  );

  shared(
    alert.command('show <name>').description('one alert, and what it told last'),
    'tsunagi alert show on-call',
    own,
  ).action(async (name: string, options: Shared) => {
    give(options, await get<AlertDetail>(`/api/alerts/${encodeURIComponent(name)}`), (one) => {
      say(`${bold(plain(name))} goes to ${plain(one.target)}, about ${plain(aboutOf(one))}: ${one.topics.join(', ')}`);
      if (one.issue) say(`${plain(one.issue.says)} ${faint(plain(one.issue.next))}`);
      if (one.deliveries.length === 0) return say('It has told nothing yet.');
      say(
        table(
          ['WHEN', 'STATE', 'TRIES', 'WHAT'],
          one.deliveries.map((item) => [
            ago(item.createdAt),
            state(item.state),
            String(item.tries),
            plain(item.subject),
          ]),
        ),
      );
    });
  });

  const added = shared(
    alert
      .command('add <name>')
      .description('tell a mail address or a webhook; a test is sent first, and it is kept if that arrives'),
    'tsunagi alert add on-call --mail on-call@kohama.example --on deployment-failed,health-poor --about sailings/production',
    own,
  );
  targets(added)
    .option('--on <topics>', `of these, with commas between: ${alertTopics.join(', ')}; default: all`)
    .option('--about <what>', 'a project, or an environment as PROJECT/ENVIRONMENT; default: everything')
    .action(async (name: string, options: TargetOptions & { about?: string }) => {
      const topics = words(options.on);
      const body: AlertBody = {
        name,
        ...target(options),
        ...(topics ? { topics } : {}),
        ...aboutBody(options.about),
      };
      give(options, await post<AddedAlert>('/api/alerts', body), (one) => {
        say(`${plain(name)} tells ${plain(one.target)} about ${plain(aboutOf(one))}; the test: ${plain(one.test)}.`);
        secretOf(one.secret);
      });
    });

  shared(
    alert.command('test <name>').description('send a message now, and say whether it was accepted'),
    'tsunagi alert test on-call',
    own,
  ).action(async (name: string, options: Shared) => {
    const tried = await post<AlertTest>(`/api/alerts/${encodeURIComponent(name)}/test`);
    give(options, tried, () => say(plain(tried.says)));
    if (!tried.accepted) process.exitCode = 1;
  });

  shared(
    alert.command('remove <name>').description('nobody is told by it any more'),
    'tsunagi alert remove on-call',
    own,
  ).action(async (name: string, options: Shared) => {
    await call('DELETE', `/api/alerts/${encodeURIComponent(name)}`);
    give(options, { removed: name }, () => say(`${plain(name)} tells nobody any more.`));
  });

  const mine = shared(
    alert.command('mine').description('what reaches you about your own runs and reviews'),
    'tsunagi alert mine --mail mika@kohama.example --on my-run-failed,my-review-live',
    own,
  );
  targets(mine)
    .option('--on <topics>', `of these, with commas between: ${ownTopics.join(', ')}`)
    .option('--none', 'nothing')
    .action(async (options: TargetOptions & { none?: boolean }) => {
      const change = options.none || options.mail || options.webhook || options.on;
      const topics = options.none ? [] : (words(options.on) ?? [...ownTopics]);
      const answer = change
        ? await post<OwnAlert>('/api/me/alerts', { topics, ...(options.none ? {} : target(options)) } as OwnAlertBody)
        : await get<OwnAlert>('/api/me/alerts');
      give(options, answer, ({ alert: one, secret }) => {
        if (!one) return say('Nothing of your own is told to you.');
        say(`You are told at ${plain(one.target)}: ${one.topics.join(', ')}.`);
        secretOf(secret);
      });
    });
}

const targets = (command: Command): Command =>
  command.option('--mail <address>', 'by mail').option('--webhook <url>', 'by a signed event to this address');

function secretOf(secret: string | null): void {
  if (secret === null) return;
  say(secret);
  process.stderr.write(`${faint('Its events are signed with this; it is shown this once.')}\n`);
}
