/** destination list, add, test, remove. */
import { readFileSync } from 'node:fs';
import type { Command } from 'commander';
import { CodedError } from '../../core/errors/errors.js';
import type { AlertTest } from '../../wire/alerts.js';
import type { Destination, DestinationBody } from '../../wire/destinations.js';
import type { PageOf } from '../../wire/parts.js';
import { call, get, post } from '../api.js';
import { ago, bytes, faint, plain, say, table } from '../print.js';
import { aboutBody, aboutOf, give, readSecret, type Shared, shared } from './shared.js';

const own = { project: false };

export function destinationCommands(program: Command): void {
  const destination = program.command('destination').description('where the logs of programs go on to');

  shared(
    destination.command('list').description('the destinations, and how far each is'),
    'tsunagi destination list',
    own,
  ).action(async (options: Shared) => {
    give(options, await get<PageOf<Destination>>('/api/destinations'), ({ items }) => {
      if (items.length === 0) return say('Logs stay here; `tsunagi destination add` sends them on, too.');
      say(
        table(
          ['DESTINATION', 'GOES TO', 'OF', 'LINES', 'LAST', 'LEFT OUT'],
          items.map((one) => [
            plain(one.name),
            plain(one.url),
            plain(aboutOf(one)),
            String(one.sentLines),
            ago(one.sentAt),
            one.leftBytes ? bytes(one.leftBytes) : '–',
          ]),
        ),
      );
      for (const one of items)
        if (one.issue) say('', `${plain(one.name)}: ${plain(one.issue.says)}`, faint(plain(one.issue.next)));
    });
  });

  shared(
    destination
      .command('add <name>')
      .description('send what programs print from now on; a line is sent first, and it is kept if that is taken'),
    'tsunagi destination add archive --syslog syslog+tls://logs.kohama.example:6514 --of sailings/production',
    own,
  )
    .option('--syslog <address>', 'as syslog (RFC 5424): syslog+tls://HOST:PORT, or syslog://HOST:PORT over TCP alone')
    .option('--otlp <address>', 'as OTLP over HTTP, in JSON')
    .option('--header <name>', 'a header that goes with each OTLP request; its value is read from standard input')
    .option('--authorities <file>', 'certificates (PEM) that it is known by instead of those of everybody')
    .option('--of <what>', 'a project, or an environment as PROJECT/ENVIRONMENT; default: everything')
    .action(
      async (
        name: string,
        options: Shared & { syslog?: string; otlp?: string; header?: string; authorities?: string; of?: string },
      ) => {
        const body: DestinationBody = {
          name,
          ...(options.syslog ? { syslog: options.syslog } : {}),
          ...(options.otlp ? { otlp: options.otlp } : {}),
          ...(options.header ? { header: { name: options.header, value: await readSecret() } } : {}),
          ...(options.authorities ? { authorities: fileOf(options.authorities) } : {}),
          ...aboutBody(options.of),
        };
        give(options, await post<Destination>('/api/destinations', body), (one) =>
          say(
            `What programs of ${plain(aboutOf(one))} print goes on to ${plain(one.url)} from now on; the test was taken.`,
          ),
        );
      },
    );

  shared(
    destination.command('test <name>').description('send one line now, and say whether it was taken'),
    'tsunagi destination test archive',
    own,
  ).action(async (name: string, options: Shared) => {
    const tried = await post<AlertTest>(`/api/destinations/${encodeURIComponent(name)}/test`);
    give(options, tried, () => say(plain(tried.says)));
    if (!tried.accepted) process.exitCode = 1;
  });

  shared(
    destination.command('remove <name>').description('nothing goes on to it any more'),
    'tsunagi destination remove archive',
    own,
  ).action(async (name: string, options: Shared) => {
    await call('DELETE', `/api/destinations/${encodeURIComponent(name)}`);
    give(options, { removed: name }, () => say(`Nothing goes on to ${plain(name)} any more.`));
  });
}

function fileOf(path: string): string {
  try {
    return readFileSync(path, 'utf8');
  } catch (error) {
    throw new CodedError('usage', {
      detail: `\`${path}\` cannot be read: ${(error as Error).message}.`,
      command: 'destination add',
    });
  }
}
