/** The command line. One bundled file, so that it starts fast; `serve` alone loads the rest of the house. */
import { Command, CommanderError } from 'commander';
import { version } from '../core/version.js';
import { CodedError, type ErrorCode, issue, type IssueData } from '../core/errors/errors.js';
import type { Me } from '../wire/people.js';
import { call, rememberSignIn, tokenByCode } from './api.js';
import { actCommands } from './commands/acts.js';
import { compareCommands } from './commands/compare.js';
import { cutoverCommands } from './commands/environments/cutover.js';
import { ruleCommands } from './commands/environments/rules.js';
import { checkCommand } from './commands/check.js';
import { completionCommand } from './commands/completion.js';
import { lookCommands } from './commands/look.js';
import { metricsCommand } from './commands/environments/metrics.js';
import { handCommands } from './commands/environments/hands.js';
import { costCommand } from './commands/environments/cost.js';
import { jobCommands } from './commands/environments/jobs.js';
import { reviewCommands } from './commands/environments/reviews.js';
import { alertCommands } from './commands/alerts.js';
import { addressCommands } from './commands/environments/addresses.js';
import { resourceCommands } from './commands/environments/resources.js';
import { rehearseCommand } from './commands/rehearse.js';
import { variableCommands } from './commands/environments/variables.js';
import { whyCommands } from './commands/why.js';
import { readSecret, shared } from './commands/shared.js';
import { destinationCommands } from './commands/destinations.js';
import { exitStatus, json, say, sayIssue } from './print.js';

function build(): Command {
  const program = new Command('tsunagi')
    .description('Ties a pushed commit to what runs in production.')
    .version(version)
    .showHelpAfterError(false)
    .exitOverride();
  program.configureOutput({ outputError: () => {} });

  program
    .command('serve')
    .description('start the service with its own database, one agent and the edge')
    .option('--data <folder>', 'where everything is kept')
    .option('--port <what=number...>', 'ports: console, edge, tls, database, resources, standing, review, untrusted')
    .option(
      '--only <process>',
      'start one process alone: service, agent or edge (set by environment variables, see docs/operating.md)',
    )
    .addHelpText('after', '\nExample:\n  tsunagi serve --data /srv/tsunagi --port console=7780')
    .action(async (options: { data?: string; port?: string[]; only?: string }) => {
      const room = new URL('./rooms/serve.js', import.meta.url).href;
      const { serve } = (await import(room)) as { serve(options: object): Promise<void> };
      await serve(options);
    });

  shared(
    program.command('sign-in <url>').description('remember a service and a token'),
    'tsunagi sign-in http://127.0.0.1:7780 --code tsc_…',
    {
      project: false,
    },
  )
    .option('--code <code>', 'a one-time sign-in: a token of your own is made with it, good for 90 days')
    .option('--token <token>', 'a token (default: read from standard input)')
    .action(async (url: string, options: { code?: string; token?: string; json?: boolean }) => {
      const base = url.replace(/\/$/, '');
      const to = {
        url: base,
        token: options.code ? await tokenByCode(base, options.code) : (options.token ?? (await readSecret())),
      };
      const me = await call<Me>('GET', '/api/me', undefined, to);
      const file = rememberSignIn(to);
      if (options.json) json({ ...me, url: to.url, file });
      else say(`Signed in as ${me.name} (role ${me.role}) at ${to.url}.`);
    });

  checkCommand(program);
  lookCommands(program);
  actCommands(program);
  ruleCommands(program);
  cutoverCommands(program);
  compareCommands(program);
  whyCommands(program);
  variableCommands(program);
  resourceCommands(program);
  addressCommands(program);
  alertCommands(program);
  destinationCommands(program);
  jobCommands(program);
  reviewCommands(program);
  costCommand(program);
  metricsCommand(program);
  handCommands(program);
  rehearseCommand(program);
  completionCommand(program);
  for (const command of program.commands)
    for (const one of [command, ...command.commands]) one.exitOverride().configureOutput({ outputError: () => {} });
  return program;
}

/** What the rest of the house throws is of its own copy of the class. */
function asOurs(thrown: unknown): unknown {
  const { name, issue: found } = thrown as { name?: string; issue?: { code: ErrorCode; data: IssueData } };
  return name === 'CodedError' && found ? new CodedError(found.code, found.data, thrown) : thrown;
}

process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code === 'EPIPE') process.exit(0);
  throw error;
});

try {
  await build().parseAsync();
} catch (thrown) {
  const error = asOurs(thrown);
  if (error instanceof CommanderError) {
    if (error.exitCode === 0 || error.code === 'commander.help')
      process.exitCode = error.code === 'commander.help' ? 2 : 0;
    else {
      sayIssue(
        issue('usage', {
          detail: error.message.replace(/^error: /, ''),
          command: process.argv[2]?.startsWith('-') ? '' : (process.argv[2] ?? ''),
        }),
      );
      process.exitCode = 2;
    }
  } else {
    if (error instanceof CodedError) sayIssue(error.issue);
    else process.stderr.write(`${(error as Error).stack ?? error}\n`);
    process.exitCode = exitStatus(error);
  }
}
