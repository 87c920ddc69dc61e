/** person, key, and what owners change about projects. */
import { counted } from '../../core/counted.js';
import type { Command } from 'commander';
import { CodedError } from '../../core/errors/errors.js';
import type { AddedPerson, Person } from '../../wire/people.js';
import type { PageOf } from '../../wire/parts.js';
import type { Project, Removal } from '../../wire/projects.js';
import { call, get, post } from '../api.js';
import { ago, bold, plain, say, table } from '../print.js';
import { give, type Shared, shared } from './shared.js';

const pathOf = (name: string): string => `/api/projects/${encodeURIComponent(name)}`;

export function ownerCommands(program: Command, project: Command): void {
  const person = program.command('person').description('people and their roles');
  shared(person.command('list').description('who may sign in, and as what'), 'tsunagi person list', {
    project: false,
  }).action(async (options: Shared) =>
    give(options, await get<PageOf<Person>>('/api/people'), ({ items }) =>
      say(
        table(
          ['PERSON', 'ROLE', 'ADDED'],
          items.map((one) => [plain(one.name), one.role, ago(one.addedAt)]),
        ),
      ),
    ),
  );
  shared(
    person.command('add <name>').description('let somebody sign in; prints a one-time sign-in for them'),
    'tsunagi person add nagi --role developer',
    {
      project: false,
    },
  )
    .requiredOption('--role <role>', 'viewer, developer, releaser or owner')
    .action(async (name: string, options: Shared & { role: string }) =>
      give(options, await post<AddedPerson>('/api/people', { name, role: options.role }), (one) =>
        say(
          `${bold(plain(one.name))} is added as ${one.role}. Their sign-in, good once and for three days:`,
          one.signIn,
        ),
      ),
    );
  shared(
    person.command('role <name> <role>').description('give somebody another role; their tokens never have more'),
    'tsunagi person role nagi releaser',
    {
      project: false,
    },
  ).action(async (name: string, role: string, options: Shared) =>
    give(options, await post<Person>(`/api/people/${encodeURIComponent(name)}/role`, { role }), (one) =>
      say(`${plain(one.name)} is ${one.role} now.`),
    ),
  );

  shared(
    person
      .command('sign-in <name>')
      .description('make a new one-time sign-in for a person; earlier ones that were not used are revoked'),
    'tsunagi person sign-in nagi',
    { project: false },
  ).action(async (name: string, options: Shared) =>
    give(options, await post<AddedPerson>(`/api/people/${encodeURIComponent(name)}/sign-in`), (one) =>
      say(`The sign-in of ${bold(plain(one.name))}, good once and for three days:`, one.signIn),
    ),
  );
  shared(
    person
      .command('remove <name>')
      .description('remove a person: sessions, tokens and sign-ins end at once, and their approvals count no more'),
    'tsunagi person remove nagi --yes',
    { project: false },
  )
    .option('-y, --yes', 'do it')
    .action(async (name: string, options: Shared & { yes?: boolean }) => {
      if (!options.yes)
        throw new CodedError('usage', {
          detail: `Nothing was changed. Removing ${plain(name)} ends their sessions and tokens; confirm with --yes.`,
          command: 'person remove',
        });
      give(options, await call<Person>('DELETE', `/api/people/${encodeURIComponent(name)}`), (one) =>
        say(`${bold(plain(one.name))} is removed. Their name stays with what they did.`),
      );
    });

  shared(
    project.command('rename <name> <to>').description('give a project another name; its addresses stay'),
    'tsunagi project rename tide-tables tides',
    {
      project: false,
    },
  ).action(async (name: string, to: string, options: Shared) =>
    give(options, await post<Project>(`${pathOf(name)}/change`, { name: to }), (one) =>
      say(`It is ${bold(one.name)} now.`),
    ),
  );
  for (const [verb, paused, says] of [
    ['pause', true, 'is paused: what is pushed waits'],
    ['resume', false, 'goes on'],
  ] as const)
    shared(
      project
        .command(`${verb} <name>`)
        .description(paused ? 'pushes wait until it is resumed' : 'let a paused project go on'),
      `tsunagi project ${verb} tide-tables`,
      { project: false },
    ).action(async (name: string, options: Shared) =>
      give(options, await post<Project>(`${pathOf(name)}/change`, { paused }), (one) =>
        say(`${bold(one.name)} ${says}.`),
      ),
    );
  shared(
    project
      .command('protect <name>')
      .description('refuse pushes that delete or rewrite the main branch of a hosted project; default on')
      .option('--off', 'accept such pushes'),
    'tsunagi project protect tide-tables',
    { project: false },
  ).action(async (name: string, options: Shared & { off?: boolean }) =>
    give(options, await post<Project>(`${pathOf(name)}/change`, { protect: options.off !== true }), (one) =>
      say(
        one.protect
          ? `Pushes can neither delete nor rewrite ${plain(one.mainBranch)} of ${bold(one.name)}.`
          : `Pushes may delete and rewrite ${plain(one.mainBranch)} of ${bold(one.name)}.`,
      ),
    ),
  );
  shared(
    project
      .command('report-to <name> [url]')
      .description('send states of runs to this address of the code host; without it: to none'),
    'tsunagi project report-to sailings https://code.kohama.example/events',
    { project: false },
  ).action(async (name: string, url: string | undefined, options: Shared) =>
    give(options, await post<Project>(`${pathOf(name)}/change`, { statuses: url ?? null }), (one) =>
      say(
        one.statuses
          ? `States of ${bold(one.name)}’s runs are sent to ${one.statuses}, signed with its secret.`
          : `States of ${bold(one.name)}’s runs are sent to nobody.`,
      ),
    ),
  );
  shared(
    project
      .command('pull-requests <name> [refs]')
      .description('look at these refs of a source that sends no events, `*` for the number; without them: at none'),
    "tsunagi project pull-requests tide-tables 'refs/pull/*/head'",
    { project: false },
  ).action(async (name: string, refs: string | undefined, options: Shared) =>
    give(options, await post<Project>(`${pathOf(name)}/change`, { pullRequests: refs ?? null }), (one) =>
      say(
        one.pullRequests
          ? `Pull requests of ${bold(one.name)} are those at ${plain(one.pullRequests)}; what is there now counts when it moves. Each commit waits to be allowed.`
          : `No refs of pull requests of ${bold(one.name)} are looked at.`,
      ),
    ),
  );
  shared(
    project.command('remove <name>').description('end and remove a project; what goes with it is shown first'),
    'tsunagi project remove tide-tables --yes',
    { project: false },
  )
    .option('-y, --yes', 'do it')
    .action(async (name: string, options: Shared & { yes?: boolean }) => {
      const removal = await get<Removal>(`${pathOf(name)}/removal`);
      const words = [
        `${counted(removal.environments.length, 'environment')} (${removal.addresses.map(plain).join(', ') || 'no address'})`,
        counted(removal.releases, 'release'),
        counted(removal.runs, 'run'),
        counted(removal.variables, 'variable'),
        ...(removal.resources.length
          ? [
              `${counted(removal.resources.length, 'database or volume', 'databases and volumes')} with all data and backups (${removal.resources.map(plain).join(', ')})`,
            ]
          : []),
      ];
      if (!options.yes) {
        give(options, removal, () =>
          say(
            `Removing ${bold(plain(name))} also removes: ${words.join(' · ')}.`,
            'What happened stays in the record.',
          ),
        );
        throw new CodedError('usage', {
          detail: 'Nothing was removed. Confirm with --yes.',
          command: 'project remove',
        });
      }
      give(options, await call<Removal>('DELETE', pathOf(name)), () =>
        say(`${bold(plain(name))} is removed, with ${words.join(' · ')}.`),
      );
    });
}
