/** `check`: a definition, offline, with the files of the checkout. */
import type { Command } from 'commander';
import { type Shared, shared } from './shared.js';

export function checkCommand(program: Command): void {
  shared(
    program
      .command('check [path]')
      .description(
        'check a definition offline, and against the tools of the agents if you are signed in; default: tsunagi.yaml here',
      ),
    'tsunagi check',
    { project: false },
  ).action(async (path: string | undefined, options: Shared) => {
    // A file of its own beside this one: the parser would be most of what every command has to load.
    const { runCheck } = (await import(
      new URL('./check-run.js', import.meta.url).href
    )) as typeof import('./check-run.js');
    await runCheck(path, options);
  });
}
